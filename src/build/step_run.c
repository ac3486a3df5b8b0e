/* The command of a step, in a container of its own. */
#include <errno.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"
#include "ipc/words.h"
#include "build/capture.h"
#include "build/step.h"
#include "container/lock.h"

#define LOOK_MS 100
#define KEEPER_LEAVES_MS 30000

/* ---- its settings ---- */

/* A folder of the recipe as a mount: read-only, as what a step changes belongs
 * to the image and not to the recipe. */
static int add_mount(const struct th_build_options *options, const char *text,
	struct th_settings *settings, struct th_error *err)
{
	const char *equals = strchr(text, '=');
	const char *source = equals ? equals + 1 : "";
	size_t len = strcspn(source, ",");
	const struct th_build_folder *folder;
	char outside[4096];
	const char *path;
	char *whole;

	if (!equals || *text != '/')
		return th_fail(
			err, TH_USAGE, "\"%.100s\" is not a mount", text);
	if (strncmp(source, "volume:", 7) == 0 ||
		strncmp(source, "memory:", 7) == 0)
		return th_strings_add(&settings->mount_texts, text)
			? th_fail_memory(err)
			: 0;
	snprintf(outside, sizeof(outside), "%.*s", (int)len, source);
	folder = th_build_folder_of(options->folders, outside, &path, err);
	if (!folder)
		return -1;
	whole = th_format("%.*s=%s/%s%s%s", (int)(equals - text), text,
		folder->path, path, source + len,
		strstr(source + len, ",ro") ? "" : ",ro");
	return th_strings_take(&settings->mount_texts, whole)
		? th_fail_memory(err)
		: 0;
}

static int add_secrets(const struct th_build_options *options,
	const struct th_recipe_step *step, struct th_settings *settings,
	struct th_error *err)
{
	for (size_t i = 0; i < step->secrets.count; i++) {
		const char *name = step->secrets.items[i];
		const char *found = NULL;
		size_t len = strlen(name);

		for (size_t k = 0; k < options->secrets->count; k++) {
			const char *pair = options->secrets->items[k];

			if (strncmp(pair, name, len) == 0 && pair[len] == '=')
				found = pair;
		}
		if (!found) {
			th_fail(err, TH_USAGE,
				"the secret \"%.60s\" is missing", name);
			return th_hint(err,
				"give it: --secret %.60s=@file:PATH", name);
		}
		if (th_strings_add(&settings->secret_files, found))
			return th_fail_memory(err);
	}
	return 0;
}

static int copy_list(const struct th_strings *from, struct th_strings *to)
{
	for (size_t i = 0; i < from->count; i++) {
		if (th_strings_add(to, from->items[i]))
			return -1;
	}
	return 0;
}

static int set_command(
	const struct th_recipe_step *step, struct th_settings *settings)
{
	/* A line that fails ends the text. */
	if (step->shell &&
		(th_strings_add(&settings->command, "/bin/sh") ||
			th_strings_add(&settings->command, "-e") ||
			th_strings_add(&settings->command, "-c")))
		return -1;
	return copy_list(&step->command, &settings->command);
}

int th_build_settings(const struct th_build_options *options,
	const struct th_recipe_step *step, const char *image,
	const struct th_strings *command, struct th_settings *settings,
	struct th_strings *texts, struct th_error *err)
{
	int rc = 0;

	memset(settings, 0, sizeof(*settings));
	if (th_strings_add(texts, image) ||
		th_strings_add(texts, options->folders->list[0].path))
		return th_fail_memory(err);
	settings->image = texts->items[texts->count - 2];
	settings->base = texts->items[texts->count - 1];
	settings->entrypoint = "";
	/* Nothing of this host. */
	settings->hostname = "build";
	settings->user = step->user;
	settings->workdir = step->workdir;
	settings->fetch = TH_FETCH_NEVER;
	settings->keep = true;
	settings->caller.unprivileged = options->unprivileged;
	settings->caller.uid = options->uid;
	settings->caller.gid = options->gid;
	settings->caller.name = options->user_name;
	settings->caller.home = options->home;
	rc = (command ? copy_list(command, &settings->command)
		      : set_command(step, settings)) ||
		copy_list(&step->env, &settings->env) ||
		copy_list(&step->networks, &settings->network_texts) ||
		copy_list(&step->limits, &settings->limit_texts);
	if (rc)
		return th_fail_memory(err);
	for (size_t i = 0; i < step->mounts.count; i++) {
		if (add_mount(options, step->mounts.items[i], settings, err))
			return -1;
	}
	return add_secrets(options, step, settings, err);
}

/* ---- running it ---- */

struct running {
	struct stepping *stepping;
	struct th_container_row row;
	int channel;
	char *last; /* the end of its output */
	size_t last_len;
};

static void take_output(struct running *running, const char *data, size_t len)
{
	struct th_build_failure *failure = running->stepping->failure;
	struct th_build_event event = {
		.what = TH_BUILD_OUTPUT, .text = data, .len = len};
	size_t room = sizeof(failure->last_words) - 1;

	running->stepping->tell(running->stepping->owner, &event);
	if (len > room) {
		data += len - room;
		len = room;
	}
	if (running->last_len + len > room) {
		size_t drop = running->last_len + len - room;

		memmove(running->last, running->last + drop,
			running->last_len - drop);
		running->last_len -= drop;
	}
	memcpy(running->last + running->last_len, data, len);
	running->last_len += len;
}

/* 1 with its end, 0, -1 where the keeper has gone. */
static int take_message(struct running *running, struct th_ending *ending,
	struct th_message *message, struct th_error *err)
{
	int fds[TH_CHANNEL_FDS];
	int rc = th_channel_receive(running->channel, message, fds, err);

	for (int i = 0; rc == 1 && i < TH_CHANNEL_FDS; i++)
		th_close(&fds[i]);
	if (rc <= 0)
		return -1;
	if (message->type == TH_TELL_OUT || message->type == TH_TELL_ERR)
		take_output(running, message->data, message->len);
	if (message->type == TH_TELL_FAILED)
		return th_words_error(message, err);
	return message->type == TH_TELL_ENDED &&
		th_words_ending(message, ending);
}

static int attend(
	struct running *running, struct th_ending *ending, struct th_error *err)
{
	struct th_message *message = malloc(sizeof(*message));
	struct pollfd one = {.fd = running->channel, .events = POLLIN};
	int rc = message ? 0 : th_fail_memory(err);

	while (rc == 0) {
		int ready = poll(&one, 1, LOOK_MS);

		if (th_cancelled(running->stepping->cancel))
			/* Closing the channel ends it. */
			rc = th_fail(
				err, TH_FAILED, "the build was interrupted");
		else if (ready > 0)
			rc = take_message(running, ending, message, err);
	}
	free(message);
	if (rc < 0 && !err->code)
		th_fail(err, TH_FAILED,
			"the keeper of the step's container was killed");
	return rc;
}

static int judge(struct running *running, const struct th_recipe_step *step,
	const struct th_ending *ending, struct th_error *err)
{
	char text[120];

	if (ending->outcome == TH_OUTCOME_EXITED && ending->code == 0)
		return 0;
	th_step_text(step, text, sizeof(text));
	if (ending->outcome == TH_OUTCOME_EXITED)
		th_fail(err, TH_FAILED, "\"%s\" ended with exit code %d",
			text + 3, ending->code);
	else if (ending->outcome == TH_OUTCOME_OUT_OF_MEMORY)
		th_fail(err, TH_FAILED, "\"%s\" ran out of memory", text + 3);
	else
		th_fail(err, TH_FAILED, "\"%s\" was ended by signal %s",
			text + 3,
			th_signal_name(ending->code)
				? th_signal_name(ending->code)
				: "?");
	running->last[running->last_len] = '\0';
	return -1;
}

/* The container's files are at rest when its keeper has left. */
static int await_keeper(struct running *running, struct th_error *err)
{
	struct th_store *store = running->stepping->context->store;
	int lock = -1;
	int rc = th_lock_wait(
		store->run_fd, running->row.id, KEEPER_LEAVES_MS, &lock, err);

	th_lock_drop(store->run_fd, running->row.id, &lock);
	return rc == 1 ? 0
		: rc == 0
		? th_fail(err, TH_FAILED,
			  "the keeper of the step's container does not end")
		: -1;
}

static int make_container(struct stepping *stepping,
	const struct th_recipe_step *step, struct th_container_row *row,
	struct th_error *err)
{
	struct th_problems problems = {0};
	struct th_strings texts = {0};
	struct th_settings settings;
	int rc = th_build_settings(stepping->options, step, stepping->parent,
		NULL, &settings, &texts, err);

	settings.build = stepping->build;
	if (rc == 0)
		rc = th_container_create(
			stepping->context, &settings, &problems, row, err);
	if (problems.count) {
		*err = problems.list[0];
		rc = -1;
	}
	th_problems_release(&problems);
	th_settings_release(&settings);
	th_strings_release(&texts);
	return rc;
}

/* An image of the place as the failed step has left it. */
static void keep_place(struct stepping *stepping,
	const struct th_container_row *row, struct th_new_layer *layer)
{
	struct timespec as_it_is = {.tv_sec = -1};
	struct th_error ignored = {0}; /* there is none then, and it is told */
	uint64_t sockets;

	if (th_capture_layer(stepping->context, row, as_it_is, layer, &sockets,
		    &ignored) == 0)
		step_commit(stepping, layer, "a step that failed", NULL,
			stepping->failure->place, &ignored);
}

static int run_in(struct running *running, const struct th_recipe_step *step,
	struct th_new_layer *layer, struct th_error *err)
{
	struct stepping *stepping = running->stepping;
	struct timespec newest = {.tv_sec = stepping->time_s};
	const struct th_size none = {0, 0};
	struct th_ending ending = {0};
	struct th_error own = {0};
	uint64_t sockets = 0;
	int rc;

	pthread_mutex_lock(stepping->turn);
	rc = th_container_start_attached(stepping->context, &running->row,
		TH_BOUND, none, &running->channel, NULL, err);
	pthread_mutex_unlock(stepping->turn);
	if (rc)
		return -1;
	rc = attend(running, &ending, err);
	th_close(&running->channel);
	if (rc == 1)
		rc = judge(running, step, &ending, err);
	if (await_keeper(running, rc ? &own : err))
		return -1;
	if (rc && stepping->options->keep_place &&
		!th_cancelled(stepping->cancel))
		keep_place(stepping, &running->row, layer);
	if (rc == 0)
		rc = th_capture_layer(stepping->context, &running->row, newest,
			layer, &sockets, err);
	if (rc == 0 && sockets) {
		struct th_build_event event = {.what = TH_BUILD_NOTE,
			.text = "sockets were left out of the layer"};

		stepping->tell(stepping->owner, &event);
	}
	return rc;
}

/* On a full disk the state takes nothing any more: what the step has written
 * goes first then. */
static void remove_container(
	struct stepping *stepping, struct th_container_row *row)
{
	const struct th_context *context = stepping->context;
	struct th_error ignored = {0}; /* the next command removes the rest */
	char upper[64];

	for (int tries = 0; tries < 2; tries++) {
		th_error_clear(&ignored);
		/* Its state has changed meanwhile. */
		if (th_state_get(context->store->db, row->id, row, &ignored) ==
				0 ||
			th_container_remove(context, row, true, &ignored) == 0)
			break;
		snprintf(upper, sizeof(upper), "containers/%s/upper", row->id);
		th_tree_remove(context->store->root_fd, upper, NULL);
	}
	/* The state may have forgotten it before its folder could be moved. */
	th_error_clear(&ignored);
	if (th_state_get(context->store->db, row->id, row, &ignored) == 0 &&
		th_store_remove_container(context->store, row->id, &ignored) ==
			0)
		th_store_settled(context->store, row->id);
}

int step_run(struct stepping *stepping, const struct th_recipe_step *step,
	struct th_new_layer *layer, struct th_error *err)
{
	struct running running = {.stepping = stepping,
		.channel = -1,
		.last = stepping->failure->last_words};
	int rc;

	pthread_mutex_lock(stepping->turn);
	rc = make_container(stepping, step, &running.row, err);
	pthread_mutex_unlock(stepping->turn);
	if (rc)
		return step_blame(stepping, &step->place, err);
	rc = run_in(&running, step, layer, err);
	pthread_mutex_lock(stepping->turn);
	remove_container(stepping, &running.row);
	pthread_mutex_unlock(stepping->turn);
	return rc ? step_blame(stepping, &step->place, err) : 0;
}
