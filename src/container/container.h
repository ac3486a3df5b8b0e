/* The life of a container, as commands ask for it. */
#ifndef TH_CONTAINER_CONTAINER_H
#define TH_CONTAINER_CONTAINER_H

#include <stdbool.h>

#include "container/limit.h"
#include "container/settings.h"
#include "image/pull.h"
#include "keeper/channel.h"
#include "store/container_state.h"
#include "store/store.h"

/* What every operation works with; the caller's. */
struct th_context {
	struct th_store *store;
	const struct th_registry_options *registries;
	const char *keeper; /* path of the keeper program */
	const char *actor; /* who asks: "root: tidyhull stop" */
	/* Passed on to a pull that a missing image needs. */
	void (*progress)(void *owner, const struct th_layer_progress *layers,
		size_t count);
	void (*pulled)(void *owner, const struct th_pulled *pulled);
	/* Asks which of several registries is meant; TH_USAGE where nobody can
	 * be asked. May be NULL. */
	int (*choose)(void *owner, const struct th_reference *ref,
		const struct th_strings *hosts, size_t *choice,
		struct th_error *err);
	void *owner;
	atomic_bool *cancel;
};

/* ---- create.c ---- */

/* Checks everything that a container of these settings needs, and reports all
 * that is wrong at once: name, ports, mounts, image. Nothing is changed and
 * nothing is downloaded. *image is the image's row where it is here. */
void th_container_check(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems);

/* Checks, pulls the image where it is missing and wanted, and makes the
 * container in the state created. With problems, or -1 with err, nothing is
 * left behind. */
int th_container_create(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems,
	struct th_container_row *row, struct th_error *err);

/* ---- start.c ---- */

enum th_attach { TH_BACKGROUND, TH_ATTACHED, TH_ATTACHED_INPUT };

/* Starts a keeper and waits until the program runs. *channel is the channel
 * to the keeper where attached, and the caller's to close. The errors of the
 * program itself are TH_NO_PROGRAM and TH_NO_EXEC. */
int th_container_start(const struct th_context *context,
	const struct th_container_row *row, enum th_attach attach,
	struct th_size size, int *channel, struct th_error *err);

/* ---- control.c ---- */

/* Sends the stop signal (0: the container's own) and after the grace period
 * (-1: the container's own) the hard kill; returns when it has ended. */
int th_container_stop(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	struct th_ending *ending, struct th_error *err);
int th_container_signal(const struct th_context *context,
	const struct th_container_row *row, int signal_number,
	struct th_error *err);

/* Freezes all its processes, or lets them go on. */
int th_container_pause(const struct th_context *context,
	const struct th_container_row *row, bool pause, struct th_error *err);

/* Other limits for a container, running or not: each change as for --limit
 * ("memory=1G", "cpu=none"). text gets all its limits from now on. */
int th_container_adjust(const struct th_context *context,
	const struct th_container_row *row, const struct th_strings *changes,
	char text[TH_LIMIT_TEXT], struct th_error *err);

struct th_exec_options {
	const struct th_strings *command;
	const struct th_strings *env; /* KEY=VALUE, beside the container's */
	const char *user; /* NULL: the container's */
	const char *workdir; /* NULL: the container's */
	bool terminal;
	struct th_size size;
	int stdio[3]; /* given to the command where there is no terminal */
};
/* Starts another command in a running container. *channel then brings its end
 * (TH_TELL_ENDED), *console is its terminal's master or -1; both the
 * caller's. */
int th_container_exec(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, int *channel, int *console,
	struct th_error *err);

/* ---- remove.c ---- */

/* Removes the container and all that is its own. One that runs is refused
 * (TH_IN_USE), or stopped properly first where force says so. */
int th_container_remove(const struct th_context *context,
	const struct th_container_row *row, bool force, struct th_error *err);

/* ---- settle.c ---- */

/* Finds out what became of containers that are said to run but have no
 * keeper, records it, and cleans up what they left. Every look at containers
 * begins with it. */
int th_container_settle(const struct th_context *context, struct th_error *err);
/* The same for one row that was just read; the row is read again. */
int th_container_settle_row(const struct th_context *context,
	struct th_container_row *row, struct th_error *err);

/* ---- object.c ---- */

enum th_kind { TH_KIND_CONTAINER = 1, TH_KIND_IMAGE = 2 };

struct th_object {
	enum th_kind kind;
	struct th_container_row container;
	struct th_image_row image; /* owned: th_object_release */
	bool by_name; /* an image that was found by one of its names */
	char name[TH_REFERENCE_MAX + 256]; /* that name, in full */
};

/* The one object of the kinds (a set) that text means: a name, an ID, or the
 * beginning of one; "container:" and "image:" before it choose. TH_NOT_FOUND,
 * or TH_USAGE with all that fit where several do. */
int th_object_find(const struct th_context *context, const char *text,
	int kinds, struct th_object *object, struct th_error *err);
void th_object_release(struct th_object *object);

#endif
