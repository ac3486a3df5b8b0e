#include "build/capture.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "build/new_layer.h"
#include "container/image_root.h"
#include "container/lock.h"
#include "container/plan.h"
#include "container/secrets.h"
#include "layer/difference.h"
#include "oci/bundle.h"

#define BASE_NAME "org.opencontainers.image.base.name"
#define BASE_DIGEST "org.opencontainers.image.base.digest"
#define LOCK_MS 5000

void th_created_text(int64_t time_s, char text[TH_CREATED_TEXT])
{
	time_t seconds = (time_t)time_s;
	struct tm parts;

	if (!gmtime_r(&seconds, &parts) ||
		!strftime(text, TH_CREATED_TEXT, "%Y-%m-%dT%H:%M:%SZ", &parts))
		snprintf(text, TH_CREATED_TEXT, "1970-01-01T00:00:00Z");
}

void th_capture_release(struct th_capture *capture)
{
	th_strings_release(&capture->mounts);
	th_strings_release(&capture->hidden);
}

/* ---- the layer ---- */

struct own_files {
	struct th_difference difference;
};

static int write_files(
	void *owner, struct th_tar_out *out, struct th_error *err)
{
	struct own_files *own = owner;

	return th_layer_difference(&own->difference, out, err);
}

static int list_mounts(
	int folder, struct th_strings *mounts, struct th_error *err)
{
	struct th_bundle bundle;
	int rc = 0;

	if (th_bundle_read(folder, &bundle, err))
		return -1;
	for (size_t i = 0; rc == 0 && i < bundle.mount_count; i++)
		rc = th_strings_add(mounts, bundle.mounts[i].target);
	/* What the keeper mounts by itself. */
	if (rc == 0)
		rc = th_strings_add(mounts, TH_SECRETS_TARGET);
	th_bundle_release(&bundle);
	return rc ? th_fail_memory(err) : 0;
}

static int layer_of(const struct th_context *context,
	const struct th_container_row *row, int upper,
	struct th_strings *mounts, struct timespec newest,
	struct th_new_layer *layer, uint64_t *sockets, struct th_error *err)
{
	struct own_files own = {.difference = {.trees = &upper,
					.tree_count = 1,
					.mounts = mounts,
					.newest = newest,
					.cancel = layer->cancel}};
	struct th_new_layer made = *layer;
	struct th_image_root root;
	int rc;

	if (th_image_root_open(context->store, row->image, &root, err))
		return -1;
	own.difference.below = root.view;
	made.fill = write_files;
	made.owner = &own;
	rc = th_new_layer(&made, err);
	made.owner = NULL;
	*layer = made;
	*sockets = own.difference.sockets;
	th_image_root_release(&root);
	return rc;
}

int th_capture_layer(const struct th_context *context,
	const struct th_container_row *row, struct timespec newest,
	struct th_new_layer *layer, uint64_t *sockets, struct th_error *err)
{
	struct th_strings mounts = {0};
	int folder = th_container_folder(context, row, err), upper = -1;
	int rc = folder < 0 ? -1 : list_mounts(folder, &mounts, err);

	*sockets = 0;
	if (rc == 0) {
		upper = openat(folder, "upper",
			O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
		/* One that was never started has written nothing. */
		layer->empty = upper < 0 && errno == ENOENT;
		if (upper < 0 && !layer->empty)
			rc = th_fail_sys(err, TH_FAILED, errno,
				"cannot open what the container has written");
	}
	if (upper >= 0)
		rc = layer_of(context, row, upper, &mounts, newest, layer,
			sockets, err);
	th_close(&upper);
	th_close(&folder);
	th_strings_release(&mounts);
	return rc;
}

/* ---- its settings ---- */

static int copy_list(
	const json_t *given, const char *key, struct th_strings *list)
{
	const json_t *array = json_object_get(given, key);
	size_t i;
	json_t *one;

	json_array_foreach((json_t *)(uintptr_t)array, i, one)
	{
		if (json_is_string(one) &&
			th_strings_add(list, json_string_value(one)))
			return -1;
	}
	return 0;
}

static int copy_text(const char *text, char **copy)
{
	if (!text || !*text)
		return 0;
	*copy = strdup(text);
	return *copy ? 0 : -1;
}

static bool has(const struct th_strings *list, const char *text, size_t len)
{
	for (size_t i = 0; i < list->count; i++) {
		if (strncmp(list->items[i], text, len) == 0 &&
			!list->items[i][len])
			return true;
	}
	return false;
}

/* Values that did not stand on a command line do not come into an image. */
static int take_env(const struct th_plan *plan,
	struct th_image_settings *settings, struct th_capture *capture)
{
	for (size_t i = 0; i < plan->env.count; i++) {
		const char *pair = plan->env.items[i];
		size_t key = strcspn(pair, "=");
		int rc;

		if (has(&plan->secrets, pair, key))
			rc = th_strings_take(
				&capture->hidden, strndup(pair, key));
		else
			rc = th_strings_add(&settings->env, pair);
		if (rc)
			return -1;
	}
	return 0;
}

static int take_ports(const struct th_plan *plan,
	struct th_image_settings *settings, struct th_error *err)
{
	for (size_t i = 0; i < plan->port_count; i++) {
		const struct th_port *port = &plan->ports[i];
		char text[16];

		snprintf(text, sizeof(text), "%d/%s", port->port,
			port->udp ? "udp" : "tcp");
		if (th_image_settings_port(settings, text, err))
			return -1;
	}
	return 0;
}

static int take_settings(const struct th_plan *plan,
	struct th_image_settings *settings, struct th_capture *capture,
	struct th_error *err)
{
	const char *entrypoint =
		json_string_value(json_object_get(plan->given, "entrypoint"));
	const char *workdir =
		json_string_value(json_object_get(plan->given, "workdir"));
	int rc = copy_list(plan->given, "command", &settings->command);

	settings->has_command = settings->command.count > 0;
	settings->has_entrypoint = entrypoint != NULL;
	if (entrypoint && *entrypoint)
		rc |= th_strings_add(&settings->entrypoint, entrypoint);
	rc |= copy_text(workdir, &settings->workdir) |
		copy_text(plan->settings_user, &settings->user) |
		take_env(plan, settings, capture);
	for (size_t i = 0; i < plan->mount_count; i++)
		rc |= th_strings_add(&capture->mounts, plan->mounts[i].target);
	return rc ? th_fail_memory(err) : take_ports(plan, settings, err);
}

static int change_config(const struct th_context *context,
	const struct th_container_row *row, struct th_capture *capture,
	struct th_draft *draft, struct th_error *err)
{
	struct th_image_settings own = {0};
	struct th_plan plan;
	int folder = th_container_folder(context, row, err);
	int rc = folder < 0 ? -1 : th_plan_read(folder, &plan, err);

	th_close(&folder);
	if (rc)
		return -1;
	rc = take_settings(&plan, &own, capture, err);
	if (rc == 0)
		rc = th_image_settings_apply(&own, draft->config, err);
	if (rc == 0)
		rc = th_image_settings_apply(
			capture->settings, draft->config, err);
	th_image_settings_release(&own);
	th_plan_release(&plan);
	return rc;
}

/* ---- the image ---- */

static int note_base(const struct th_container_row *row, struct th_draft *draft,
	struct th_error *err)
{
	json_t *process = json_object_get(draft->config, "config");
	json_t *labels;

	if (!json_is_object(process)) {
		json_object_set_new(draft->config, "config", json_object());
		process = json_object_get(draft->config, "config");
	}
	if (!json_is_object(json_object_get(process, "Labels")))
		json_object_set_new(process, "Labels", json_object());
	labels = json_object_get(process, "Labels");
	if (json_object_set_new(
		    labels, BASE_NAME, json_string(row->image_name)) ||
		json_object_set_new(
			labels, BASE_DIGEST, json_string(row->image)))
		return th_fail_memory(err);
	draft->annotations = json_pack("{s:s s:s}", BASE_NAME, row->image_name,
		BASE_DIGEST, row->image);
	return draft->annotations ? 0 : th_fail_memory(err);
}

static int make_image(const struct th_context *context,
	const struct th_container_row *row, struct th_capture *capture,
	struct th_new_layer *layer, struct th_error *err)
{
	int64_t time_s = capture->time_s >= 0 ? capture->time_s
					      : th_clock_now_us() / 1000000;
	char created[TH_CREATED_TEXT], what[TH_NAME_MAX + 40];
	struct th_draft draft;
	int rc = th_draft_open(context->store, row->image, &draft, err);

	th_created_text(time_s, created);
	snprintf(what, sizeof(what), "captured from container %s", row->name);
	if (rc == 0)
		rc = th_draft_add(&draft, layer->empty ? NULL : &layer->layer,
			created, what, err);
	if (rc == 0 &&
		json_object_set_new(
			draft.config, "created", json_string(created)))
		rc = th_fail_memory(err);
	if (rc == 0)
		rc = change_config(context, row, capture, &draft, err);
	if (rc == 0)
		rc = note_base(row, &draft, err);
	if (rc == 0)
		rc = th_draft_commit(context->store, &draft, NULL,
			capture->name, layer->cancel, capture->digest, err);
	th_draft_release(&draft);
	return rc;
}

/* Keeps it from being started, or from changing, meanwhile. */
struct stillness {
	int lock, channel;
};

static int hold_still(const struct th_context *context,
	const struct th_container_row *row, struct stillness *still,
	struct th_error *err)
{
	int rc;

	still->lock = still->channel = -1;
	if (row->state == TH_STATE_WAITING) {
		th_fail(err, TH_IN_USE,
			"container \"%s\" is about to be started again",
			row->name);
		return th_hint(
			err, "stop it first: tidyhull stop %s", row->name);
	}
	if (row->state == TH_STATE_RUNNING || row->state == TH_STATE_PAUSED)
		return th_container_hold(context, row, &still->channel, err);
	rc = th_lock_wait(
		context->store->run_fd, row->id, LOCK_MS, &still->lock, err);
	return rc == 0	 ? th_fail(err, TH_IN_USE,
				   "container \"%s\" is being started or removed "
				     "by another command",
				   row->name)
		: rc < 0 ? -1
			 : 0;
}

static int end_still(const struct th_context *context,
	const struct th_container_row *row, struct stillness *still,
	struct th_error *err)
{
	if (still->lock >= 0)
		th_lock_drop(context->store->run_fd, row->id, &still->lock);
	return th_container_let_go(context, &still->channel, err);
}

/* Files that are missing are a consequence. */
static void say_gone(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_error ignored = {0}; /* then the first reason stands */
	struct th_container_row now;

	if (th_state_get(context->store->db, row->id, &now, &ignored) != 0)
		return;
	th_error_clear(err);
	th_fail(err, TH_NOT_FOUND,
		"container \"%s\" was removed while it was captured",
		row->name);
}

int th_capture(const struct th_context *context,
	const struct th_container_row *row, struct th_capture *capture,
	struct th_error *err)
{
	struct timespec newest = {.tv_sec = capture->time_s};
	struct th_new_layer layer = {.store = context->store,
		.compression = capture->compression,
		.level = capture->level,
		.cancel = {{context->cancel}, context->work}};
	struct th_error end = {0};
	struct stillness still;
	int rc;

	if (th_store_hold(context->store, err))
		return -1;
	rc = th_store_use_images(context->store, err);
	if (rc == 0) {
		rc = hold_still(context, row, &still, err);
		if (rc == 0) {
			th_work_begin(context->work, 0);
			rc = th_capture_layer(context, row, newest, &layer,
				&capture->sockets, err);
			th_work_end(context->work);
			/* Its end is no failure of ours. */
			end_still(context, row, &still, &end);
		}
		if (rc == 0)
			rc = make_image(context, row, capture, &layer, err);
		th_store_unuse_images(context->store);
	}
	th_store_let_go(context->store);
	if (rc)
		say_gone(context, row, err);
	if (rc == 0 && !layer.empty) {
		capture->size_bytes = layer.layer.size_bytes;
		capture->plain_bytes = layer.plain_bytes;
	}
	return rc;
}
