/* Making the images of a recipe: each step is done once, and remembered by what
 * goes into it. */
#ifndef TH_BUILD_BUILD_H
#define TH_BUILD_BUILD_H

#include "build/context.h"
#include "build/recipe.h"
#include "container/container.h"
#include "oci/manifest.h"
#include "store/step_state.h"
#include "tidyhull/image.h"

/* Where a step failed. */
struct th_build_failure {
	size_t image, step;
	bool known; /* it was a step */
	char text[200]; /* of the step */
	char last_words[2048]; /* of its output */
	char place[TH_DIGEST_TEXT]; /* an image of the place as it was, or "" */
};

struct th_build_options {
	const char *recipe_name; /* for messages */
	const struct th_recipe *recipe;
	const struct th_build_folders *folders;
	const struct th_strings *secrets; /* NAME=VALUE */
	enum th_compression compression;
	int level;
	int64_t time_s; /* SOURCE_DATE_EPOCH, or -1 */
	const char *name; /* of the main image, in full, or NULL */
	enum th_fetch fetch;
	bool anew, plan;
	bool keep_place; /* of a step that fails */
	/* Called by one thread at a time. */
	void (*tell)(void *owner, const struct th_build_event *event);
	void *owner;
	/* Who calls, as for containers. */
	bool unprivileged;
	unsigned int uid, gid;
	const char *user_name, *home;
};

/* Builds all images of the recipe, those that do not need one another at the
 * same time. digest receives that of the main one. After a failure the steps
 * before it stay. */
int th_build(const struct th_context *context,
	const struct th_build_options *options, char digest[TH_DIGEST_TEXT],
	struct th_build_failure *failure, struct th_error *err);

/* The settings of a container for a step that does something, in an image;
 * what they point into belongs to options and texts. command: another one than
 * the step's, or NULL. */
int th_build_settings(const struct th_build_options *options,
	const struct th_recipe_step *step, const char *image,
	const struct th_strings *command, struct th_settings *settings,
	struct th_strings *texts, struct th_error *err);

#endif
