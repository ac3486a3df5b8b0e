#include "build/step.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "build/capture.h"
#include "container/image_choice.h"
#include "layer/difference.h"

#define KEY_VERSION 1
#define TEXT_BYTES 4096
#define TURN_STEP_MS 20

int step_blame(const struct stepping *stepping,
	const struct th_yaml_place *place, struct th_error *err)
{
	char reason[sizeof(err->msg)];

	/* One inside a joined step has been named already. */
	if (!err->code || strstr(err->msg, ", line "))
		return -1;
	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg), "%.100s, line %zu: %.380s",
		stepping->options->recipe_name, place->line, reason);
	return -1;
}

int step_image(const struct th_context *context,
	const struct th_build_options *options, pthread_mutex_t *pulling,
	const char *text, char image[TH_DIGEST_TEXT], struct th_error *err)
{
	struct th_settings settings = {.image = text,
		.base = options->folders->list[0].path,
		.fetch = options->fetch};
	struct th_image_choice choice;
	int rc;

	/* One without a command of its own can be built on as well. */
	if (th_strings_add(&settings.command, "true"))
		return th_fail_memory(err);
	pthread_mutex_lock(pulling);
	rc = th_image_choose(context, &settings, &choice, err);
	if (rc == 0)
		rc = th_image_obtain(context, &settings, &choice, err);
	pthread_mutex_unlock(pulling);
	if (rc == 0)
		snprintf(image, TH_DIGEST_TEXT, "%s", choice.image.digest);
	th_image_choice_release(&choice);
	th_settings_release(&settings);
	return rc;
}

/* ---- keys ---- */

static int digest_of(const json_t *doc, char digest[TH_HASH_TEXT])
{
	char *text = th_json_text(doc, JSON_COMPACT | JSON_SORT_KEYS);
	int rc = text ? th_hash_once(text, strlen(text), digest) : -1;

	free(text);
	return rc;
}

/* What the step says. Limits change nothing of what comes out, nor does where
 * a secret comes from. */
static json_t *describe(
	const struct stepping *stepping, const struct th_recipe_step *step)
{
	const struct th_build_options *options = stepping->options;
	json_t *pairs = json_array(), *inner = json_array();

	for (size_t i = 0; i < step->pair_count; i++)
		json_array_append_new(pairs,
			json_pack("[s b s]", step->pairs[i].inside,
				step->pairs[i].into,
				step->kind == TH_STEP_TAKE
					? ""
					: step->pairs[i].outside));
	for (size_t i = 0; i < step->step_count; i++)
		json_array_append_new(
			inner, describe(stepping, &step->steps[i]));
	return json_pack("{s:i s:i s:o s:s? s:s? s:o s:b s:o s:b s:o s:o s:o "
			 "s:o s:s? s:s? s:o s:I s:i s:i}",
		"version", KEY_VERSION, "kind", (int)step->kind, "pairs", pairs,
		"owner", step->owner, "mode", step->mode, "leave-out",
		th_json_from_strings(&step->leave_out), "unpack", step->unpack,
		"command", th_json_from_strings(&step->command), "shell",
		step->shell, "env", th_json_from_strings(&step->env), "network",
		th_json_from_strings(&step->networks), "mount",
		th_json_from_strings(&step->mounts), "secret",
		th_json_from_strings(&step->secrets), "user", step->user,
		"workdir", step->workdir, "steps", inner, "time",
		(json_int_t)stepping->time_s, "compression",
		(int)options->compression, "level", options->level);
}

static int digest_files(struct stepping *stepping,
	const struct th_recipe_step *step, char digest[TH_HASH_TEXT],
	struct th_error *err)
{
	struct step_files files;
	int rc = step_files_gather(stepping, step, &files, err);

	if (rc == 0)
		rc = th_put_entries_digest(&files.entries, digest, err);
	step_files_release(stepping, &files);
	return rc;
}

/* An archive counts as the file that it is: it need not be unpacked to see that
 * it is the same. */
static int digest_archives(struct stepping *stepping,
	const struct th_recipe_step *step, char digest[TH_HASH_TEXT],
	struct th_error *err)
{
	struct th_recipe_step plain = *step;
	struct th_recipe_pair *pairs =
		calloc(step->pair_count + 1, sizeof(*pairs));
	int rc;

	if (!pairs)
		return th_fail_memory(err);
	for (size_t i = 0; i < step->pair_count; i++) {
		pairs[i] = step->pairs[i];
		pairs[i].into = true;
	}
	plain.pairs = pairs;
	plain.unpack = false;
	rc = digest_files(stepping, &plain, digest, err);
	free(pairs);
	return rc;
}

/* Folders of the recipe that are mounted: the step sees what is in them. */
static int digest_mounts(struct stepping *stepping,
	const struct th_recipe_step *step, json_t *all, struct th_error *err)
{
	for (size_t i = 0; i < step->mounts.count; i++) {
		const char *source = strchr(step->mounts.items[i], '=');
		char digest[TH_HASH_TEXT], *path;
		struct th_recipe_pair pair = {.inside = (char *)(uintptr_t) "/",
			.place = step->place};
		struct th_recipe_step put = {.kind = TH_STEP_PUT,
			.place = step->place,
			.pairs = &pair,
			.pair_count = 1};
		int rc;

		if (!source || strncmp(source, "=volume:", 8) == 0 ||
			strncmp(source, "=memory:", 8) == 0)
			continue;
		path = strndup(source + 1, strcspn(source + 1, ","));
		if (!path)
			return th_fail_memory(err);
		pair.outside = path;
		pair.into = true;
		rc = digest_files(stepping, &put, digest, err);
		free(path);
		if (rc)
			return -1;
		json_array_append_new(all, json_string(digest));
	}
	return 0;
}

static int digest_sources(struct stepping *stepping,
	const struct th_recipe_step *step, json_t *all, struct th_error *err)
{
	for (size_t i = 0; i < step->pair_count; i++) {
		char image[TH_DIGEST_TEXT];
		const char *path;
		int rc = step_source(
			stepping, &step->pairs[i], image, &path, err);

		if (rc < 0)
			return step_blame(stepping, &step->pairs[i].place, err);
		if (rc > 0)
			return 1;
		json_array_append_new(all, json_pack("[s s]", image, path));
	}
	return 0;
}

/* What comes from outside of the recipe's text. 1 where that is not known yet.
 */
static int add_content(struct stepping *stepping,
	const struct th_recipe_step *step, json_t *all, struct th_error *err)
{
	char digest[TH_HASH_TEXT];

	switch (step->kind) {
	case TH_STEP_PUT:
		if (step->unpack ? digest_archives(stepping, step, digest, err)
				 : digest_files(stepping, step, digest, err))
			return -1;
		json_array_append_new(all, json_string(digest));
		return 0;
	case TH_STEP_DO:
		return digest_mounts(stepping, step, all, err);
	case TH_STEP_TAKE:
		return digest_sources(stepping, step, all, err);
	case TH_STEP_JOIN:
		break;
	}
	for (size_t i = 0; i < step->step_count; i++) {
		int rc = add_content(stepping, &step->steps[i], all, err);

		if (rc)
			return rc;
	}
	return 0;
}

static int make_key(struct stepping *stepping,
	const struct th_recipe_step *step, struct th_step_key *key,
	struct th_error *err)
{
	json_t *text = describe(stepping, step), *content = json_array();
	json_t *whole = NULL;
	int rc = add_content(stepping, step, content, err);

	memset(key, 0, sizeof(*key));
	snprintf(key->parent, sizeof(key->parent), "%s", stepping->parent);
	if (rc == 0)
		rc = digest_of(text, key->text) ||
				digest_of(content, key->content)
			? th_fail_memory(err)
			: 0;
	if (rc == 0) {
		whole = json_pack(
			"[s s s]", key->parent, key->text, key->content);
		rc = digest_of(whole, key->key) ? th_fail_memory(err) : 0;
	}
	json_decref(whole);
	json_decref(content);
	json_decref(text);
	return rc;
}

int step_key_of_image(const struct stepping *stepping,
	const struct th_draft *draft, struct th_step_key *key)
{
	json_t *whole = json_pack("[s s O O?]", "image", stepping->parent,
		draft->config, draft->annotations);
	int rc = digest_of(whole, key->key);

	snprintf(key->parent, sizeof(key->parent), "%s", stepping->parent);
	memcpy(key->text, key->key, sizeof(key->text));
	memcpy(key->content, key->key, sizeof(key->content));
	json_decref(whole);
	return rc;
}

/* ---- the layer ---- */

int step_commit(struct stepping *stepping, const struct th_new_layer *layer,
	const char *text, const struct th_step_key *key,
	char image[TH_DIGEST_TEXT], struct th_error *err)
{
	struct th_store *store = stepping->context->store;
	const char *parent = stepping->parent[0] ? stepping->parent : NULL;
	char created[TH_CREATED_TEXT];
	struct th_draft draft;
	int rc = th_draft_open(store, parent, &draft, err);

	th_created_text(stepping->time_s, created);
	if (rc == 0 &&
		json_object_set_new(
			draft.config, "created", json_string(created)))
		rc = th_fail_memory(err);
	if (rc == 0)
		rc = th_draft_add(&draft, layer->empty ? NULL : &layer->layer,
			created, text, err);
	if (rc == 0 && !draft.layer_count) {
		/* Nothing was put into nothing. */
		image[0] = '\0';
	} else if (rc == 0) {
		rc = th_draft_commit(
			store, &draft, key, NULL, stepping->cancel, image, err);
	}
	th_draft_release(&draft);
	return rc;
}

static int write_files(
	void *owner, struct th_tar_out *out, struct th_error *err)
{
	return th_put_entries_write(owner, out, err);
}

/* Files that change while they are read would be remembered as what they were
 * before. */
static int put_files(struct stepping *stepping,
	const struct th_recipe_step *step, struct th_new_layer *layer,
	struct th_error *err)
{
	char before[TH_HASH_TEXT] = "", after[TH_HASH_TEXT] = "";
	struct step_files files;
	int rc = step_files_gather(stepping, step, &files, err);

	if (rc == 0)
		rc = th_put_entries_digest(&files.entries, before, err);
	if (rc == 0) {
		layer->fill = write_files;
		layer->owner = &files.entries;
		rc = th_new_layer(layer, err);
		layer->owner = NULL;
	}
	if (rc == 0)
		rc = th_put_entries_digest(&files.entries, after, err);
	if (rc == 0 && strcmp(before, after) != 0)
		rc = th_fail(err, TH_FAILED,
			"the files have changed while they were put");
	if (rc == 0 && files.sockets) {
		struct th_build_event event = {.what = TH_BUILD_NOTE,
			.text = "sockets were left out of the layer"};

		stepping->tell(stepping->owner, &event);
	}
	step_files_release(stepping, &files);
	return rc ? step_blame(stepping, &step->place, err) : 0;
}

/* ---- joined steps ---- */

static int write_difference(
	void *owner, struct th_tar_out *out, struct th_error *err)
{
	return th_layer_difference(owner, out, err);
}

/* All that the joined steps have left on top of the image before them. */
static int join_layers(struct stepping *stepping, const char *last,
	struct th_new_layer *layer, struct th_error *err)
{
	struct th_store *store = stepping->context->store;
	struct th_difference difference = {
		.newest = {stepping->time_s, 0}, .cancel = stepping->cancel};
	struct th_image_root below = {0}, top = {0};
	size_t common = 0;
	int *fds = NULL, rc;

	rc = stepping->parent[0]
		? th_image_root_open(store, stepping->parent, &below, err)
		: 0;
	if (rc == 0)
		rc = th_image_root_open(store, last, &top, err);
	while (rc == 0 && common < below.trees.count &&
		common < top.trees.count &&
		strcmp(below.trees.items[common], top.trees.items[common]) == 0)
		common++;
	if (rc == 0) {
		fds = malloc((top.trees.count + 1) * sizeof(*fds));
		rc = fds ? 0 : th_fail_memory(err);
	}
	if (rc == 0) {
		/* They stay the view's, as the difference only borrows them. */
		for (size_t i = common; i < top.trees.count; i++)
			fds[i - common] = th_view_tree(top.view, i);
		difference.trees = fds;
		difference.tree_count = top.trees.count - common;
		difference.below = below.view;
		layer->fill = write_difference;
		layer->owner = &difference;
		rc = th_new_layer(layer, err);
		layer->owner = NULL;
	}
	free(fds);
	th_image_root_release(&top);
	th_image_root_release(&below);
	return rc;
}

static void say_nothing(void *owner, struct th_build_event *event)
{
	struct stepping *outer = owner;

	if (event->what == TH_BUILD_OUTPUT || event->what == TH_BUILD_NOTE)
		outer->tell(outer->owner, event);
}

static int join_steps(struct stepping *stepping,
	const struct th_recipe_step *step, struct th_new_layer *layer,
	struct th_error *err)
{
	struct stepping inner = *stepping;
	int rc = 0;

	memset(&inner.keys, 0, sizeof(inner.keys));
	inner.tell = say_nothing;
	inner.owner = stepping;
	for (size_t i = 0; rc == 0 && i < step->step_count; i++)
		rc = step_do(&inner, &step->steps[i], err);
	th_strings_release(&inner.keys);
	if (rc)
		return -1;
	/* Nothing was changed. */
	layer->empty = strcmp(inner.parent, stepping->parent) == 0;
	return layer->empty ? 0
			    : join_layers(stepping, inner.parent, layer, err);
}

/* ---- the step ---- */

static int make_layer(struct stepping *stepping,
	const struct th_recipe_step *step, struct th_new_layer *layer,
	struct th_error *err)
{
	switch (step->kind) {
	case TH_STEP_PUT:
	case TH_STEP_TAKE:
		return put_files(stepping, step, layer, err);
	case TH_STEP_DO:
		return step_run(stepping, step, layer, err);
	case TH_STEP_JOIN:
		break;
	}
	return join_steps(stepping, step, layer, err);
}

static int perform(struct stepping *stepping, const struct th_recipe_step *step,
	const struct th_step_key *key, const char *text,
	struct th_build_event *event, struct th_error *err)
{
	struct th_store *store = stepping->context->store;
	const struct th_build_options *options = stepping->options;
	struct th_new_layer layer = {.store = store,
		.compression = options->compression,
		.level = options->level,
		.never = step->secrets.count ? options->secrets : NULL,
		.cancel = stepping->cancel};
	char image[TH_DIGEST_TEXT] = "";
	int64_t began_us = th_clock_now_us();
	int rc = -1;

	if (th_store_hold(store, err))
		return -1;
	if (th_store_use_images(store, err) == 0) {
		rc = make_layer(stepping, step, &layer, err);
		if (rc == 0)
			rc = step_commit(
				stepping, &layer, text, key, image, err);
		th_store_unuse_images(store);
	}
	th_store_let_go(store);
	if (rc)
		return step_blame(stepping, &step->place, err);
	memcpy(stepping->parent, image, sizeof(stepping->parent));
	event->took_us = th_clock_now_us() - began_us;
	event->bytes = layer.empty ? 0 : layer.layer.size_bytes;
	return 0;
}

static void tell(struct stepping *stepping, struct th_build_event *event,
	enum th_build_happening what)
{
	event->what = what;
	event->step = stepping->number;
	stepping->tell(stepping->owner, event);
}

static int plan(struct stepping *stepping, const struct th_step_key *key,
	struct th_build_event *event, struct th_error *err)
{
	if (th_step_state_reason(
		    stepping->context->store, key, &event->reason, err))
		return -1;
	stepping->planned = true;
	tell(stepping, event, TH_BUILD_STEP_PLANNED);
	return 0;
}

/* Waits while another build, or another image of this one, does the same step.
 */
static int await_turn(struct stepping *stepping, const char *name, int *lock,
	struct th_error *err)
{
	const struct timespec step = {.tv_nsec = TURN_STEP_MS * 1000000};
	int rc;

	*lock = -1;
	for (;;) {
		rc = th_build_lock(stepping->context->store, name, lock, err);
		if (rc)
			return rc < 0 ? -1 : 0;
		if (th_cancelled(stepping->cancel))
			return th_fail(
				err, TH_FAILED, "the build was interrupted");
		nanosleep(&step, NULL);
	}
}

/* Runs it, unless somebody has just done so. 1 where that is so, 0, -1. */
static int perform_once(struct stepping *stepping,
	const struct th_recipe_step *step, const struct th_step_key *key,
	char image[TH_DIGEST_TEXT], struct th_build_event *event,
	struct th_error *err)
{
	const char *name = th_digest_hex(key->key);
	int lock = -1, rc = await_turn(stepping, name, &lock, err);

	if (rc == 0 && !stepping->options->anew)
		rc = th_step_state_find(
			stepping->context->store, key->key, image, err);
	if (rc == 0) {
		tell(stepping, event, TH_BUILD_STEP_RUNS);
		rc = perform(stepping, step, key, event->text, event, err);
	}
	th_build_unlock(stepping->context->store, name, &lock);
	return rc;
}

int step_do(struct stepping *stepping, const struct th_recipe_step *step,
	struct th_error *err)
{
	char image[TH_DIGEST_TEXT], text[TEXT_BYTES];
	struct th_build_event event = {.text = text};
	struct th_step_key key;
	int rc;

	th_step_text(step, text, sizeof(text));
	if (stepping->planned) {
		event.behind = true;
		tell(stepping, &event, TH_BUILD_STEP_PLANNED);
		return 0;
	}
	if (th_cancelled(stepping->cancel))
		return th_fail(err, TH_FAILED, "the build was interrupted");
	rc = make_key(stepping, step, &key, err);
	if (rc < 0)
		return step_blame(stepping, &step->place, err);
	if (rc > 0) {
		/* An image that it takes from would be made. */
		stepping->planned = true;
		return step_do(stepping, step, err);
	}
	rc = stepping->options->anew
		? 0
		: th_step_state_find(
			  stepping->context->store, key.key, image, err);
	if (rc == 0 && stepping->options->plan)
		return plan(stepping, &key, &event, err);
	if (rc == 0) {
		rc = perform_once(stepping, step, &key, image, &event, err);
		if (rc == 0)
			tell(stepping, &event, TH_BUILD_STEP_DONE);
	}
	if (rc == 1) {
		memcpy(stepping->parent, image, sizeof(image));
		tell(stepping, &event, TH_BUILD_STEP_REMEMBERED);
	}
	if (rc < 0)
		return -1;
	return th_strings_add(&stepping->keys, key.key) ? th_fail_memory(err)
							: 0;
}
