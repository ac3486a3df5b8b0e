/* What is asked of a running container's keeper. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "base/path.h"
#include "container/container.h"
#include "container/user.h"
#include "keeper/plan.h"
#include "oci/bundle.h"

#define ACCOUNTS_MAX (4u << 20)

static int not_running(const struct th_container_row *row, struct th_error *err)
{
	th_fail(err, TH_FAILED, "container \"%s\" does not run: it is %s",
		row->name, th_state_word(row->state));
	return th_hint(err, "tidyhull start %s", row->name);
}

static int reach(const struct th_context *context,
	const struct th_container_row *row, int *channel, struct th_error *err)
{
	int rc;

	if (row->state != TH_STATE_RUNNING && row->state != TH_STATE_PAUSED)
		return not_running(row, err);
	rc = th_channel_connect(context->store->run_fd, row->id, channel, err);
	if (rc == 0)
		return th_fail(err, TH_FAILED,
			"container \"%s\" has just ended", row->name);
	return rc < 0 ? -1 : 0;
}

static int send_request(int channel, enum th_message_type type, json_t *doc,
	const int *fds, int fd_count, struct th_error *err)
{
	char *text = doc ? json_dumps(doc, JSON_COMPACT) : NULL;
	int rc = -1;

	if (!text)
		th_fail_memory(err);
	else if (th_channel_send(
			 channel, type, text, strlen(text), fds, fd_count))
		th_fail_sys(err, TH_FAILED, errno,
			"cannot ask the container's keeper");
	else
		rc = 0;
	free(text);
	json_decref(doc);
	return rc;
}

/* The answer, or -1 with the error that the keeper tells. */
static int await(int channel, enum th_message_type wanted,
	struct th_message *message, int fds[TH_CHANNEL_FDS],
	struct th_error *err)
{
	int rc = th_channel_receive(channel, message, fds, err);

	if (rc == 1 && message->type == wanted)
		return 0;
	if (rc == 1 && message->type == TH_TELL_FAILED &&
		message->len == sizeof(*err)) {
		memcpy(err, message->data, sizeof(*err));
		return -1;
	}
	if (rc == 0)
		return th_fail(
			err, TH_FAILED, "the container's keeper has gone");
	return th_fail(err, TH_FAILED,
		"the container's keeper gave an answer that is not known");
}

int th_container_stop(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	struct th_ending *ending, struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc = -1;
	json_t *doc;

	if (reach(context, row, &channel, err))
		return -1;
	doc = json_pack("{s:s}", "actor", context->actor);
	if (doc && signal_number)
		json_object_set_new(doc, "signal", json_integer(signal_number));
	if (doc && grace_ms >= 0)
		json_object_set_new(doc, "grace-ms", json_integer(grace_ms));
	if (send_request(channel, TH_SAY_STOP, doc, NULL, 0, err) == 0 &&
		await(channel, TH_TELL_ENDED, &message, fds, err) == 0 &&
		message.len == sizeof(*ending)) {
		memcpy(ending, message.data, sizeof(*ending));
		rc = 0;
	}
	th_close(&channel);
	return rc;
}

int th_container_signal(const struct th_context *context,
	const struct th_container_row *row, int signal_number,
	struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc = -1;
	json_t *doc;

	if (reach(context, row, &channel, err))
		return -1;
	doc = json_pack(
		"{s:i s:s}", "signal", signal_number, "actor", context->actor);
	if (send_request(channel, TH_SAY_SIGNAL, doc, NULL, 0, err) == 0)
		rc = await(channel, TH_TELL_DONE, &message, fds, err);
	th_close(&channel);
	return rc;
}

int th_container_pause(const struct th_context *context,
	const struct th_container_row *row, bool pause, struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc = -1;

	if (row->state == TH_STATE_PAUSED && pause)
		return th_fail(err, TH_FAILED,
			"container \"%s\" is paused already", row->name);
	if (row->state == TH_STATE_RUNNING && !pause)
		return th_fail(err, TH_FAILED,
			"container \"%s\" is not paused: it runs", row->name);
	if (reach(context, row, &channel, err))
		return -1;
	if (send_request(channel, pause ? TH_SAY_PAUSE : TH_SAY_RESUME,
		    json_pack("{s:s}", "actor", context->actor), NULL, 0,
		    err) == 0)
		rc = await(channel, TH_TELL_DONE, &message, fds, err);
	th_close(&channel);
	return rc;
}

/* Takes the limits out of an OCI "resources" object, and puts others in. */
static void rewrite_limits(json_t *resources, const struct th_limit *limit)
{
	static const char *const parts[] = {"memory", "cpu", "pids", "blockIO"};
	struct th_limit kept = *limit;
	int64_t *values[] = {&kept.memory_bytes, &kept.swap_bytes, &kept.cpu_us,
		&kept.processes, &kept.io_weight};

	for (size_t i = 0; i < 4; i++)
		json_object_del(resources, parts[i]);
	for (size_t i = 0; i < 5; i++)
		*values[i] = *values[i] < 0 ? 0 : *values[i];
	th_limit_write(&kept, resources);
}

static int keep_limits(int folder, struct th_plan *plan,
	const struct th_limit *limit, const char *text, struct th_error *err)
{
	json_t *doc = NULL, *part;
	char *copy = strdup(text);
	int rc;

	rc = copy ? th_json_read_file(
			    folder, "config.json", TH_BUNDLE_MAX, &doc, err)
		  : th_fail_memory(err);
	if (rc == 1) {
		part = json_object_get(
			json_object_get(doc, "linux"), "resources");
		rewrite_limits(part, limit);
		free(plan->limit);
		plan->limit = copy;
		copy = NULL;
		rc = th_json_write_file(
			     folder, "config.json", doc, 0600, false, err) ||
				th_plan_write(folder, plan, err)
			? -1
			: 0;
	}
	json_decref(doc);
	free(copy);
	return rc;
}

static int ask_to_adjust(const struct th_context *context,
	const struct th_container_row *row, const struct th_limit *change,
	const char *text, struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc = -1;
	json_t *resources = json_object();

	if (row->state != TH_STATE_RUNNING && row->state != TH_STATE_PAUSED) {
		json_decref(resources);
		return 0;
	}
	th_limit_write(change, resources);
	if (reach(context, row, &channel, err)) {
		json_decref(resources);
		return -1;
	}
	if (send_request(channel, TH_SAY_ADJUST,
		    json_pack("{s:o s:s s:s}", "resources", resources, "limit",
			    text, "actor", context->actor),
		    NULL, 0, err) == 0)
		rc = await(channel, TH_TELL_DONE, &message, fds, err);
	th_close(&channel);
	return rc;
}

int th_container_adjust(const struct th_context *context,
	const struct th_container_row *row, const struct th_strings *changes,
	char text[TH_LIMIT_TEXT], struct th_error *err)
{
	struct th_limit change = {0}, whole = {0};
	struct th_plan plan = {0};
	char path[64];
	int folder, rc = -1;

	snprintf(path, sizeof(path), "containers/%s", row->id);
	folder = openat(context->store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	/* Two at once would each forget what the other has changed. */
	if (folder < 0 || flock(folder, LOCK_EX)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot lock the container's folder");
		goto out;
	}
	if (th_plan_read(folder, &plan, err) ||
		(plan.limit && *plan.limit &&
			th_limit_parse(plan.limit, &whole, err)))
		goto out;
	for (size_t i = 0; i < changes->count; i++) {
		struct th_error ignored = {0};

		if (th_limit_parse(changes->items[i], &whole, err))
			goto out;
		/* What it lacks alone stands in the others. */
		th_limit_parse(changes->items[i], &change, &ignored);
	}
	if (change.swap_bytes > 0)
		change.memory_bytes = whole.memory_bytes;
	th_limit_format(&whole, text);
	if (ask_to_adjust(context, row, &change, text, err) == 0)
		rc = keep_limits(folder, &plan, &whole, text, err);
out:
	th_plan_release(&plan);
	th_close(&folder);
	return rc;
}

/* The passwd and group files as the running container has them. */
static int resolve_user(const struct th_container_row *row, const char *text,
	struct th_user *user, struct th_error *err)
{
	static const char *const names[2] = {"etc/passwd", "etc/group"};
	struct th_buf files[2];
	char path[64], name[TH_FD_PATH];
	int root, rc;

	snprintf(path, sizeof(path), "/proc/%d/root", row->pid);
	root = open(path, O_PATH | O_DIRECTORY | O_CLOEXEC);
	for (int i = 0; i < 2; i++) {
		struct th_error ignored = {0};
		int fd = root < 0 ? -1
				  : th_path_open_in_root(root, names[i],
					    O_RDONLY | O_NONBLOCK, 0);

		th_buf_init(&files[i], ACCOUNTS_MAX);
		if (fd >= 0)
			th_file_read(AT_FDCWD, th_fd_path(fd, "", name),
				&files[i], &ignored);
		th_close(&fd);
	}
	rc = th_user_resolve(text, files[0].data, files[1].data, user, err);
	th_buf_release(&files[0]);
	th_buf_release(&files[1]);
	th_close(&root);
	return rc;
}

static int set_env(json_t *env, const char *pair)
{
	size_t key = strcspn(pair, "=") + 1, i;
	json_t *item;

	json_array_foreach(env, i, item)
	{
		if (strncmp(json_string_value(item), pair, key) == 0)
			return json_array_set_new(env, i, json_string(pair));
	}
	return json_array_append_new(env, json_string(pair));
}

/* The container's own environment, changed as the options say. */
static int compose_env(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, const struct th_user *user,
	json_t *env, struct th_error *err)
{
	struct th_bundle bundle;
	char path[64], home[300];
	int folder, rc;

	snprintf(path, sizeof(path), "containers/%s", row->id);
	folder = openat(context->store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot open the container's folder");
	rc = th_bundle_read(folder, &bundle, err);
	th_close(&folder);
	if (rc)
		return -1;
	for (size_t i = 0; i < bundle.process.env.count; i++)
		rc |= set_env(env, bundle.process.env.items[i]);
	if (user) {
		snprintf(home, sizeof(home), "HOME=%s", user->home);
		rc |= set_env(env, home);
	}
	if (options->terminal)
		rc |= set_env(env, "TERM=xterm");
	for (size_t i = 0; options->env && i < options->env->count; i++)
		rc |= set_env(env, options->env->items[i]);
	th_bundle_release(&bundle);
	return rc ? th_fail_memory(err) : 0;
}

static json_t *compose_exec(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, struct th_error *err)
{
	struct th_user user;
	struct th_buf text;
	json_t *env = json_array(), *doc = NULL, *groups = json_array();

	if (options->user && resolve_user(row, options->user, &user, err))
		goto fail;
	if (compose_env(context, row, options, options->user ? &user : NULL,
		    env, err))
		goto fail;
	th_buf_init(&text, 256);
	for (size_t i = 0; i < options->command->count && !text.failed; i++)
		th_buf_addf(&text, "%s%.100s", i ? " " : "",
			options->command->items[i]);
	doc = json_pack("{s:o s:O s:s s:s s:b s:i s:i s:s?}", "args",
		th_json_from_strings(options->command), "env", env, "command",
		text.data, "actor", context->actor, "terminal",
		options->terminal, "rows", options->size.rows, "columns",
		options->size.columns, "cwd", options->workdir);
	th_buf_release(&text);
	if (!doc) {
		th_fail_memory(err);
		goto fail;
	}
	if (options->user) {
		for (size_t i = 0; i < user.group_count; i++)
			json_array_append_new(
				groups, json_integer(user.groups[i]));
		json_object_set_new(doc, "uid", json_integer(user.uid));
		json_object_set_new(doc, "gid", json_integer(user.gid));
		json_object_set(doc, "groups", groups);
	}
fail:
	json_decref(groups);
	json_decref(env);
	return doc;
}

int th_container_exec(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, int *channel, int *console,
	struct th_error *err)
{
	struct th_message message;
	int fds[TH_CHANNEL_FDS], made = -1;
	json_t *doc;

	if (options->workdir && options->workdir[0] != '/')
		return th_fail(err, TH_USAGE,
			"the working folder \"%.200s\" is not an absolute path",
			options->workdir);
	/* A process in a frozen control group would never begin. */
	if (row->state == TH_STATE_PAUSED) {
		th_fail(err, TH_FAILED, "container \"%s\" is paused",
			row->name);
		return th_hint(err, "tidyhull resume %s", row->name);
	}
	if (reach(context, row, &made, err))
		return -1;
	doc = compose_exec(context, row, options, err);
	if (!doc ||
		send_request(made, TH_SAY_EXEC, doc, options->stdio,
			options->terminal ? 0 : 3, err) ||
		await(made, TH_TELL_SESSION, &message, fds, err)) {
		th_close(&made);
		return -1;
	}
	*channel = made;
	*console = fds[0];
	return 0;
}
