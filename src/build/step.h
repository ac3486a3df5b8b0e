/* One step of a build. For the build module only. */
#ifndef TH_BUILD_STEP_H
#define TH_BUILD_STEP_H

#include <pthread.h>

#include "build/build.h"
#include "build/new_layer.h"
#include "container/image_root.h"
#include "image/draft.h"

/* What the steps of one image share. */
struct stepping {
	const struct th_context *context;
	const struct th_build_options *options;
	const char *build; /* its ID */
	size_t image; /* its number in the recipe */
	/* Waits for an image of the recipe: 0 with its digest, 1 where it would
	 * be made anew (--plan), -1. */
	int (*await)(void *owner, size_t number, char image[TH_DIGEST_TEXT],
		struct th_error *err);
	int64_t time_s; /* of this image */
	char parent[TH_DIGEST_TEXT]; /* the image so far; "" for nothing */
	struct th_strings keys; /* of all steps, in order */
	bool planned; /* with --plan: a step before would run */
	size_t number; /* of the step */
	struct th_build_failure *failure;
	/* Told by one thread at a time. */
	void (*tell)(void *owner, struct th_build_event *event);
	void *owner;
	struct th_cancel cancel;
	pthread_mutex_t *pulling; /* held by who pulls an image */
	/* Held by who makes, starts or removes a container: what is known of
	 * the host is read once for the whole program. */
	pthread_mutex_t *turn;
};

/* Does the step, unless it is remembered; the parent is then what it has made.
 * With --plan it only says what it would do. */
int step_do(struct stepping *stepping, const struct th_recipe_step *step,
	struct th_error *err);

/* All that a put or a take means, finished (build/entries.h). roots: what the
 * entries refer to; both to be released. */
struct step_files {
	struct th_put_entries entries;
	struct th_image_root below;
	struct th_image_root *from; /* owned, each */
	size_t from_count;
	char (*trees)[64]; /* of unpacked archives, in the store; owned */
	int *tree_fds;
	size_t tree_count;
	uint64_t sockets;
};
int step_files_gather(struct stepping *stepping,
	const struct th_recipe_step *step, struct step_files *files,
	struct th_error *err);
void step_files_release(struct stepping *stepping, struct step_files *files);

/* The image that a take means, which is pulled where it is missing. 0, 1 where
 * it would be made anew (--plan), -1. */
int step_source(struct stepping *stepping, const struct th_recipe_pair *pair,
	char image[TH_DIGEST_TEXT], const char **path, struct th_error *err);

/* Runs the command of a step in a container of its own and makes the layer. */
int step_run(struct stepping *stepping, const struct th_recipe_step *step,
	struct th_new_layer *layer, struct th_error *err);

/* Finds or pulls an image by its name, or a packed file. One pull at a time:
 * who watches it sees one, and the next one may find the image here. */
int step_image(const struct th_context *context,
	const struct th_build_options *options, pthread_mutex_t *pulling,
	const char *text, char image[TH_DIGEST_TEXT], struct th_error *err);

/* Puts the place in the recipe before the message. */
int step_blame(const struct stepping *stepping,
	const struct th_yaml_place *place, struct th_error *err);

/* The key of an image of the recipe that has no name. */
int step_key_of_image(const struct stepping *stepping,
	const struct th_draft *draft, struct th_step_key *key);

/* A new image from the parent with the layer on top. */
int step_commit(struct stepping *stepping, const struct th_new_layer *layer,
	const char *text, const struct th_step_key *key,
	char image[TH_DIGEST_TEXT], struct th_error *err);

#endif
