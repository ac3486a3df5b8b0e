/* The life of a container, as commands ask for it. */
#ifndef TH_CONTAINER_CONTAINER_H
#define TH_CONTAINER_CONTAINER_H

#include <stdbool.h>

#include "model/limit.h"
#include "model/settings.h"
#include "store/network_state.h"
#include "image/pull.h"
#include "ipc/channel.h"
#include "ipc/handed.h"
#include "sandbox/cgroup.h"
#include "store/container_state.h"
#include "store/group_state.h"
#include "store/store.h"
#include "store/volume_state.h"
#include "tidyhull/object.h"

/* What every operation works with; the caller's. */
struct th_context {
	struct th_store *store;
	const struct th_registry_options *registries;
	const char *keeper; /* path of the keeper program */
	bool user_bus; /* the caller has a D-Bus session */
	const char *actor; /* who asks: "root: tidyhull stop" */
	bool stays_due; /* what is stopped is due to be started again */
	const char *notify; /* the socket of a service manager, or NULL */
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
	struct th_work *work; /* for what takes long; or NULL */
};

/* True once the caller has been interrupted. Of any thread. */
bool th_context_cancelled(const struct th_context *context);

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

enum th_attach {
	TH_BACKGROUND,
	TH_ATTACHED,
	TH_ATTACHED_INPUT,
	TH_BOUND /* attached, and killed where this process goes before it */
};

/* Starts a keeper and waits until the program runs. The errors of the program
 * itself are TH_NO_PROGRAM and TH_NO_EXEC. */
int th_container_start(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err);

/* The same, attached: *channel is the channel to the keeper, the caller's to
 * close, and *keeper its process, a child of this one (NULL: not wanted). */
int th_container_start_attached(const struct th_context *context,
	const struct th_container_row *row, enum th_attach attach,
	struct th_size size, int *channel, pid_t *keeper, struct th_error *err);

/* The same in the background, with ports that another container has had. */
int th_container_start_handed(const struct th_context *context,
	const struct th_container_row *row, const struct th_handed *handed,
	struct th_error *err);

/* ---- control.c ---- */

/* Sends the stop signal (0: the container's own) and after the grace period
 * (-1: the container's own) the hard kill; returns when it has ended. One that
 * waits for its next try waits no longer. */
int th_container_stop(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	struct th_ending *ending, struct th_error *err);
/* The same in two steps, so that several are stopped at the same time. The
 * second waits up to timeout_ms (-1: for ever): 1 with how it ended, 0 where
 * it has not yet, -1; the channel is closed but for 0. */
int th_container_stop_begin(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	int *channel, struct th_error *err);
int th_container_stop_await(int *channel, int timeout_ms,
	struct th_ending *ending, struct th_error *err);

/* Has the container's keeper write to the log what the program has written by
 * now; waits two seconds for it at most, as it is a courtesy. */
void th_container_record(const struct th_context *context, const char *id);

/* True where the container's keeper does not answer for seconds, whatever it is
 * asked: it was stopped by a signal, or hangs. Then it has been killed, the
 * container with it, and that is recorded; err says so. A call that is answered
 * returns false at once. */
bool th_container_end_stuck(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err);

/* Stops it where it runs, and starts it; returns when it runs again. */
int th_container_restart(const struct th_context *context,
	const struct th_container_row *row, int grace_ms, struct th_error *err);
/* Starts what waits for its next try. */
int th_container_start_waiting(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err);

/* holds: an end by it is as final as by a stop. */
int th_container_signal(const struct th_context *context,
	const struct th_container_row *row, int signal_number, bool holds,
	struct th_error *err);
int th_session_signal(const struct th_context *context,
	const struct th_session_row *session, int signal_number,
	struct th_error *err);

/* Waits until the container has ended for good (what: "end"), until its probe
 * succeeds ("ready"), or until the session has ended (its ID; otherwise NULL);
 * up to timeout_ms, or for ever (-1). 1 with how it ended, 2 where it is
 * ready, 0 where no keeper is there (any more): the state knows the rest. */
int th_container_wait(const struct th_context *context, const char *id,
	const char *what, const char *session, int timeout_ms,
	struct th_ending *ending, struct th_error *err);

/* Freezes all its processes, or lets them go on. */
int th_container_pause(const struct th_context *context,
	const struct th_container_row *row, bool pause, struct th_error *err);

/* The same for as long as the channel is open: where this process dies, they go
 * on. The channel is -1 where the container does not run, or is paused. */
int th_container_hold(const struct th_context *context,
	const struct th_container_row *row, int *channel, struct th_error *err);
/* Lets them go on, and closes it. */
int th_container_let_go(
	const struct th_context *context, int *channel, struct th_error *err);

/* Other limits for a container, running or not: each change as for --limit
 * ("memory=1G", "cpu=none"). text gets all its limits from now on. */
int th_container_adjust(const struct th_context *context,
	const struct th_container_row *row, const struct th_strings *changes,
	char text[TH_LIMIT_TEXT], struct th_error *err);
/* Another restart policy, another probe (NULL: as it was; "": none). */
int th_container_adjust_life(const struct th_context *context,
	const struct th_container_row *row, const char *restart,
	const char *probe, struct th_error *err);
int th_container_rename(const struct th_context *context,
	const struct th_container_row *row, const char *name,
	struct th_error *err);

/* ---- exec.c ---- */

struct th_exec_options {
	const struct th_strings *command;
	const struct th_strings *env; /* KEY=VALUE, beside the container's */
	const char *user; /* NULL: the container's */
	const char *workdir; /* NULL: the container's */
	bool terminal;
	bool background; /* its output goes to a log of its own */
	struct th_size size;
	int stdio[3]; /* given to the command where there is no terminal */
	int program; /* the program itself, where the container lacks it; -1 */
};
/* Starts another command in a running container. *channel then brings its end
 * (TH_TELL_ENDED), *console is its terminal's master or -1; both the
 * caller's. session gets its ID (TH_ID_LENGTH + 1 bytes); it may be NULL. */
int th_container_exec(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, int *channel, int *console,
	char *session, struct th_error *err);

/* The root folder of a living container, opened with O_PATH. first_id (may be
 * NULL): what the host sees as root inside; 0 where user IDs are the host's. */
int th_container_root(const struct th_context *context,
	const struct th_container_row *row, int *root, uint32_t *first_id,
	struct th_error *err);
/* The value of a variable in the environment that the container's program
 * gets. 1 with *value (to be freed), 0 where it has none of the name, -1. */
int th_container_env(const struct th_context *context,
	const struct th_container_row *row, const char *key, char **value,
	struct th_error *err);

/* 1 where the container's program has a terminal, 0, -1. */
int th_container_has_terminal(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err);

/* ---- remove.c ---- */

/* Removes the container and all that is its own. One that runs is refused
 * (TH_IN_USE), or stopped properly first where force says so. */
int th_container_remove(const struct th_context *context,
	const struct th_container_row *row, bool force, struct th_error *err);

/* The control groups of one that does not run: that which the state has, and
 * that of a keeper which was killed before the state knew of its start. The
 * container's lock must be held. */
void th_container_remove_groups(
	const struct th_context *context, const struct th_container_row *row);

/* ---- settle.c ---- */

/* Opens the container's folder in the store; the caller's to close, -1. */
int th_container_folder(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err);

/* The control group that the container has, or had last. */
void th_container_group(const struct th_context *context,
	const struct th_container_row *row, char path[TH_CGROUP_PATH]);

/* Finds out what became of containers that are said to run but have no
 * keeper, records it, and cleans up what they left. Every look at containers
 * begins with it. */
int th_container_settle(const struct th_context *context, struct th_error *err);
/* The same, and all of them as they are then, oldest first; to be freed. Where
 * the disk takes nothing, what their keepers know counts. */
int th_container_rows(const struct th_context *context,
	struct th_container_row **rows, size_t *count, struct th_error *err);
/* Only those that are up, and how many others there are, which make it take
 * no longer. */
int th_container_rows_up(const struct th_context *context,
	struct th_container_row **rows, size_t *count, size_t *others,
	struct th_error *err);
/* Takes from the host what a killed start of the container has left there; its
 * lock must be held. */
void th_container_clean_start(
	const struct th_context *context, const struct th_container_row *row);
/* The same for one row that was just read; the row is read again. */
int th_container_settle_row(const struct th_context *context,
	struct th_container_row *row, struct th_error *err);

/* ---- object.c ---- */

struct th_object {
	enum th_kind kind;
	struct th_container_row container;
	struct th_image_row image; /* owned: th_object_release */
	struct th_session_row session;
	struct th_volume_row volume;
	struct th_network_row network;
	struct th_group_row group;
	bool by_name; /* an image that was found by one of its names */
	char name[TH_REFERENCE_MAX + 256]; /* that name, in full */
};

/* The one object of the kinds (a set) that text means: a name, an ID, or the
 * beginning of one; "container:", "image:", "session:", "volume:", "network:"
 * and "group:" before it choose. TH_NOT_FOUND, or TH_USAGE with all that fit
 * where several do. */
int th_object_find(const struct th_context *context, const char *text,
	int kinds, struct th_object *object, struct th_error *err);
void th_object_release(struct th_object *object);

#endif
