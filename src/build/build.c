#include "build/build.h"

#include <errno.h>
#include <pthread.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/random.h"
#include "base/threads.h"
#include "build/capture.h"
#include "build/image_settings.h"
#include "build/step.h"
#include "container/image_choice.h"

#define WORKERS_MAX 8
#define STACK_BYTES (4u << 20)

enum progress { WAITS, RUNS, DONE };

struct building {
	const struct th_context *context;
	const struct th_build_options *options;
	char id[TH_ID_LENGTH + 1];
	int lock; /* held while containers of this build may be there */
	/* with the mutex held */
	pthread_mutex_t mutex, told, pulling, turn;
	pthread_cond_t changed;
	enum progress *progress; /* of each image */
	char (*digests)[TH_DIGEST_TEXT];
	bool *planned; /* it would be made anew */
	struct th_error err;
	struct th_build_failure *failure;
	atomic_bool failed;
};

/* What one image is made by. */
struct making {
	struct building *building;
	struct th_context context; /* with a store of its own */
	size_t number;
};

/* ---- what is told ---- */

static void tell(struct building *building, struct th_build_event *event)
{
	pthread_mutex_lock(&building->told);
	building->options->tell(building->options->owner, event);
	pthread_mutex_unlock(&building->told);
}

static void tell_step(void *owner, struct th_build_event *event)
{
	struct making *making = owner;

	event->image = making->number;
	tell(making->building, event);
}

/* ---- one image ---- */

static const struct th_recipe_image *image_of(const struct making *making)
{
	return &making->building->options->recipe->images[making->number];
}

/* The image that it is made from; "" for nothing. 0, 1 where it would be made
 * anew (--plan), -1. */
static int find_from(
	struct making *making, char image[TH_DIGEST_TEXT], struct th_error *err)
{
	const struct th_build_options *options = making->building->options;
	const struct th_recipe_image *recipe = image_of(making);
	int number = th_recipe_find(options->recipe, recipe->from);

	image[0] = '\0';
	if (strcmp(recipe->from, "nothing") == 0)
		return 0;
	if (number >= 0) {
		snprintf(image, TH_DIGEST_TEXT, "%s",
			making->building->digests[number]);
		return making->building->planned[number];
	}
	return step_image(&making->context, options, &making->building->pulling,
		recipe->from, image, err);
}

/* What was asked for, or else the time of what it is made from. */
static int find_time(const struct making *making, const char *from,
	int64_t *time_s, struct th_error *err)
{
	const struct th_build_options *options = making->building->options;
	int64_t time_us = 0;
	struct th_image_row *rows = NULL;
	size_t count = 0;

	*time_s = options->time_s >= 0 ? options->time_s
				       : options->recipe->time_s;
	if (*time_s >= 0)
		return 0;
	*time_s = 0;
	if (!*from)
		return 0;
	if (th_image_state_find(
		    making->context.store, from, &rows, &count, err))
		return -1;
	/* An image need not say when it was made. */
	if (count > 0 && th_clock_parse(rows[0].created, &time_us) == 0 &&
		time_us > 0)
		*time_s = time_us / 1000000;
	th_image_rows_free(rows, count);
	return count > 0 ? 0
			 : th_fail(err, TH_NOT_FOUND,
				   "the image that it is made from was removed "
				   "meanwhile");
}

static int add_annotations(const struct th_recipe_image *image,
	struct th_draft *draft, struct th_error *err)
{
	draft->annotations = json_object();
	for (size_t i = 0; i < image->annotations.count; i++) {
		const char *text = image->annotations.items[i];
		const char *equals = strchr(text, '=');
		char *key = strndup(text, (size_t)(equals - text));
		int rc = key ? json_object_set_new(draft->annotations, key,
				       json_string(equals + 1))
			     : -1;

		free(key);
		if (rc)
			return th_fail_memory(err);
	}
	return draft->annotations ? 0 : th_fail_memory(err);
}

static bool has_name(const struct making *making, char *name, size_t size,
	struct th_error *err)
{
	const struct th_build_options *options = making->building->options;
	const struct th_recipe_image *image = image_of(making);
	bool is_main = making->number + 1 == options->recipe->image_count;
	struct th_reference ref;
	char full[TH_REFERENCE_MAX + 256];

	if (is_main && options->name) {
		snprintf(name, size, "%s", options->name);
		return true;
	}
	if (!image->name || th_reference_parse(image->name, &ref, err))
		return false;
	th_reference_format(&ref, full);
	snprintf(name, size, "%s", full);
	return true;
}

/* An image of the recipe that has no name is there for the others only: it is
 * remembered as a step is. */
static int commit(struct making *making, struct stepping *stepping,
	struct th_draft *draft, const char *name, char digest[TH_DIGEST_TEXT],
	struct th_error *err)
{
	const struct th_build_options *options = making->building->options;
	struct th_step_key key;

	if (name || making->number + 1 == options->recipe->image_count)
		return th_draft_commit(making->context.store, draft, NULL, name,
			stepping->cancel, digest, err);
	if (step_key_of_image(stepping, draft, &key))
		return th_fail_memory(err);
	return th_draft_commit(making->context.store, draft, &key, NULL,
		stepping->cancel, digest, err);
}

/* The last step's image with the recipe's settings is the image. */
static int finish_image(
	struct making *making, struct stepping *stepping, struct th_error *err)
{
	const struct th_recipe_image *image = image_of(making);
	struct th_store *store = making->context.store;
	char created[TH_CREATED_TEXT], name[TH_REFERENCE_MAX + 256];
	struct th_build_event event = {
		.what = TH_BUILD_IMAGE_DONE, .image = making->number};
	bool named = has_name(making, name, sizeof(name), err);
	char digest[TH_DIGEST_TEXT];
	struct th_draft draft;
	int rc = err->code ? step_blame(stepping, &image->place, err) : 0;

	if (rc)
		return -1;
	if (!stepping->parent[0]) {
		th_fail(err, TH_USAGE, "the image would be empty");
		return step_blame(stepping, &image->place, err);
	}
	if (th_store_hold(store, err))
		return -1;
	rc = th_store_use_images(store, err);
	if (rc) {
		th_store_let_go(store);
		return -1;
	}
	th_created_text(stepping->time_s, created);
	rc = th_draft_open(store, stepping->parent, &draft, err);
	if (rc == 0 &&
		json_object_set_new(
			draft.config, "created", json_string(created)))
		rc = th_fail_memory(err);
	if (rc == 0 &&
		th_image_settings_apply(&image->settings, draft.config, err))
		rc = step_blame(stepping, &image->place, err);
	if (rc == 0)
		rc = add_annotations(image, &draft, err);
	if (rc == 0)
		rc = commit(making, stepping, &draft, named ? name : NULL,
			digest, err);
	th_draft_release(&draft);
	th_store_unuse_images(store);
	th_store_let_go(store);
	if (rc)
		return -1;
	memcpy(making->building->digests[making->number], digest,
		sizeof(digest));
	event.digest = digest;
	event.text = named ? name : NULL;
	tell(making->building, &event);
	return 0;
}

static void note_failure(struct making *making, const struct stepping *stepping,
	const struct th_recipe_step *step)
{
	struct building *building = making->building;

	pthread_mutex_lock(&building->mutex);
	if (!building->failure->known && !building->err.code) {
		*building->failure = *stepping->failure;
		building->failure->known = true;
		building->failure->image = making->number;
		building->failure->step = stepping->number;
		th_step_text(step, building->failure->text,
			sizeof(building->failure->text));
		if (!building->failure->place[0])
			memcpy(building->failure->place, stepping->parent,
				TH_DIGEST_TEXT);
	}
	pthread_mutex_unlock(&building->mutex);
}

static int await_image(void *owner, size_t number, char image[TH_DIGEST_TEXT],
	struct th_error *err)
{
	struct making *making = owner;
	struct building *building = making->building;
	int rc;

	pthread_mutex_lock(&building->mutex);
	while (building->progress[number] != DONE &&
		!atomic_load(&building->failed))
		pthread_cond_wait(&building->changed, &building->mutex);
	rc = building->progress[number] != DONE ||
			atomic_load(&building->failed)
		? th_fail(err, TH_FAILED, "another image of the recipe failed")
		: building->planned[number];
	memcpy(image, building->digests[number], TH_DIGEST_TEXT);
	pthread_mutex_unlock(&building->mutex);
	return rc;
}

static int make_image(struct making *making, struct th_error *err)
{
	struct building *building = making->building;
	const struct th_recipe_image *image = image_of(making);
	struct th_build_failure *failure = calloc(1, sizeof(*failure));
	struct stepping stepping = {.context = &making->context,
		.options = building->options,
		.build = building->id,
		.image = making->number,
		.await = await_image,
		.pulling = &building->pulling,
		.turn = &building->turn,
		.failure = failure,
		.tell = tell_step,
		.owner = making,
		/* How far it is, the steps tell. */
		.cancel = {
			{building->context->cancel, &building->failed}, NULL}};
	struct th_build_event event = {
		.what = TH_BUILD_IMAGE_BEGINS, .image = making->number};
	int rc = failure ? 0 : th_fail_memory(err);

	if (rc == 0) {
		tell(building, &event);
		rc = find_from(making, stepping.parent, err);
		stepping.planned = rc == 1;
		if (rc < 0)
			step_blame(&stepping, &image->from_place, err);
		rc = rc < 0 ? -1 : 0;
	}
	if (rc == 0)
		rc = find_time(making, stepping.parent, &stepping.time_s, err);
	for (size_t i = 0; rc == 0 && i < image->step_count; i++) {
		stepping.number = i;
		rc = step_do(&stepping, &image->steps[i], err);
		if (rc)
			note_failure(making, &stepping, &image->steps[i]);
	}
	if (rc == 0 && !building->options->plan)
		rc = finish_image(making, &stepping, err);
	if (rc == 0 && building->options->plan) {
		building->planned[making->number] = stepping.planned;
		memcpy(building->digests[making->number], stepping.parent,
			TH_DIGEST_TEXT);
	}
	if (rc == 0 && !building->options->plan)
		rc = th_step_state_used(
			making->context.store, &stepping.keys, err);
	th_strings_release(&stepping.keys);
	free(failure);
	return rc;
}

/* ---- several at once ---- */

/* The next image whose beginning is there; what it takes from others it waits
 * for when it comes to that. Those that are needed stand first in the list, so
 * that whoever waits does so for one that another thread has begun, or the next
 * free one will. 1, 0 where none is left, with the mutex held. */
static int next_image(struct building *building, size_t *number)
{
	const struct th_recipe *recipe = building->options->recipe;

	for (;;) {
		bool waits = false;

		if (atomic_load(&building->failed))
			return 0;
		for (size_t i = 0; i < recipe->image_count; i++) {
			const struct th_recipe_image *image =
				&recipe->images[i];
			bool ready = building->progress[i] == WAITS;
			int from = th_recipe_find(recipe, image->from);

			waits |= ready;
			if (from >= 0)
				ready &= building->progress[from] == DONE;
			if (ready) {
				building->progress[i] = RUNS;
				*number = i;
				return 1;
			}
		}
		if (!waits)
			return 0;
		pthread_cond_wait(&building->changed, &building->mutex);
	}
}

static void work(struct making *making)
{
	struct building *building = making->building;

	pthread_mutex_lock(&building->mutex);
	while (next_image(building, &making->number)) {
		struct th_error err = {0};
		int rc;

		pthread_mutex_unlock(&building->mutex);
		rc = make_image(making, &err);
		pthread_mutex_lock(&building->mutex);
		building->progress[making->number] = DONE;
		if (rc) {
			if (!err.code)
				th_fail(&err, TH_FAILED,
					"the image could not be made");
			if (!building->err.code)
				building->err = err;
			atomic_store(&building->failed, true);
		}
		pthread_cond_broadcast(&building->changed);
	}
	pthread_mutex_unlock(&building->mutex);
}

/* With a store of its own: nothing of it is shared between threads. */
static void *work_in_thread(void *owner)
{
	struct building *building = owner;
	const struct th_store *shared = building->context->store;
	struct making making = {
		.building = building, .context = *building->context};
	struct th_store *store = NULL;
	struct th_error err = {0};

	/* Unpacking sets the umask, which threads share otherwise. */
	if (unshare(CLONE_FS))
		th_fail_sys(&err, TH_NOT_POSSIBLE, errno,
			"a thread cannot have its own umask here");
	else if (th_store_open(
			 shared->root, shared->run, false, &store, &err) == 0) {
		store->unprivileged = shared->unprivileged;
		making.context.store = store;
		work(&making);
		th_store_close(store);
	}
	if (err.code) {
		pthread_mutex_lock(&building->mutex);
		if (!building->err.code)
			building->err = err;
		atomic_store(&building->failed, true);
		pthread_cond_broadcast(&building->changed);
		pthread_mutex_unlock(&building->mutex);
	}
	return NULL;
}

static void work_all(struct building *building)
{
	size_t count = building->options->recipe->image_count, started = 0;
	pthread_t threads[WORKERS_MAX];
	struct making making = {
		.building = building, .context = *building->context};

	/* --plan asks in order: what is to be done before is known then. */
	if (count == 1 || building->options->plan) {
		work(&making);
		return;
	}
	if (count > WORKERS_MAX)
		count = WORKERS_MAX;
	for (; started < count; started++) {
		if (th_thread_start(&threads[started], STACK_BYTES,
			    work_in_thread, building))
			break;
	}
	if (!started)
		work(&making);
	for (size_t i = 0; i < started; i++)
		pthread_join(threads[i], NULL);
}

/* ---- containers of this build ---- */

static int prepare(struct building *building, struct th_error *err)
{
	size_t count = building->options->recipe->image_count;
	int rc;

	pthread_mutex_init(&building->mutex, NULL);
	pthread_mutex_init(&building->told, NULL);
	pthread_mutex_init(&building->pulling, NULL);
	pthread_mutex_init(&building->turn, NULL);
	pthread_cond_init(&building->changed, NULL);
	atomic_init(&building->failed, false);
	building->lock = -1;
	building->progress = calloc(count, sizeof(*building->progress));
	building->digests = calloc(count, sizeof(*building->digests));
	building->planned = calloc(count, sizeof(*building->planned));
	if (!building->progress || !building->digests || !building->planned)
		return th_fail_memory(err);
	th_id_new(building->id);
	/* Nobody else has this ID, but somebody may be looking whether it is
	 * that of a dead one. */
	while ((rc = th_build_lock(building->context->store, building->id,
			&building->lock, err)) == 0)
		;
	return rc < 0 ? -1 : 0;
}

int th_build(const struct th_context *context,
	const struct th_build_options *options, char digest[TH_DIGEST_TEXT],
	struct th_build_failure *failure, struct th_error *err)
{
	struct building building = {
		.context = context, .options = options, .failure = failure};
	size_t last = options->recipe->image_count - 1;
	int rc = prepare(&building, err);

	memset(failure, 0, sizeof(*failure));
	if (rc == 0) {
		work_all(&building);
		rc = building.err.code ? -1 : 0;
		*err = building.err;
	}
	if (rc == 0)
		memcpy(digest, building.digests[last], TH_DIGEST_TEXT);
	th_build_unlock(context->store, building.id, &building.lock);
	free(building.progress);
	free(building.digests);
	free(building.planned);
	pthread_cond_destroy(&building.changed);
	pthread_mutex_destroy(&building.turn);
	pthread_mutex_destroy(&building.pulling);
	pthread_mutex_destroy(&building.told);
	pthread_mutex_destroy(&building.mutex);
	return rc;
}
