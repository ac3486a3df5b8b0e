/* Further commands in a running container. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "base/path.h"
#include "container/accounts.h"
#include "container/keeper_ask.h"
#include "container/container.h"
#include "container/user.h"
#include "oci/bundle.h"

/* By the passwd and group files as the running container has them. */
static int resolve_user(const struct th_context *context,
	const struct th_container_row *row, const char *text,
	struct th_user *user, struct th_error *err)
{
	struct th_account_files files;
	int root, rc;

	if (th_container_root(context, row, &root, NULL, err))
		return -1;
	rc = th_accounts_read(root, &files, err);
	th_close(&root);
	if (rc)
		return -1;
	rc = th_user_resolve(text, files.passwd, files.group, user, err);
	th_accounts_release(&files);
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
static int make_env(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, const struct th_user *user,
	json_t *env, struct th_error *err)
{
	struct th_bundle bundle;
	char home[300];
	int folder = th_container_folder(context, row, err), rc;

	if (folder < 0)
		return -1;
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

static json_t *make_exec(const struct th_context *context,
	const struct th_container_row *row,
	const struct th_exec_options *options, struct th_error *err)
{
	struct th_user user;
	struct th_buf text;
	json_t *env = json_array(), *doc = NULL, *groups = json_array();

	if (options->user &&
		resolve_user(context, row, options->user, &user, err))
		goto fail;
	if (make_env(context, row, options, options->user ? &user : NULL, env,
		    err))
		goto fail;
	th_buf_init(&text, 256);
	for (size_t i = 0; i < options->command->count && !text.failed; i++)
		th_buf_addf(&text, "%s%.100s", i ? " " : "",
			options->command->items[i]);
	doc = json_pack("{s:o s:O s:s s:s s:b s:b s:i s:i s:s? s:s?}", "args",
		th_json_from_strings(options->command), "env", env, "command",
		text.data, "actor", context->actor, "terminal",
		options->terminal, "background", options->background, "rows",
		options->size.rows, "columns", options->size.columns, "cwd",
		options->workdir, "user", options->user);
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
	char *session, struct th_error *err)
{
	bool streams = !options->terminal && !options->background;
	struct th_message message;
	int fds[TH_CHANNEL_FDS], given[TH_CHANNEL_FDS], made = -1, count;
	json_t *doc;

	if (options->workdir && options->workdir[0] != '/')
		return th_fail(err, TH_USAGE,
			"the working folder \"%.200s\" is not an absolute path",
			options->workdir);
	if (keeper_reach(context, row, TH_ACT_EXEC, &made, err))
		return -1;
	doc = make_exec(context, row, options, err);
	/* The place of a stream that is not given is kept by another one. */
	for (int i = 0; i < 3; i++)
		given[i] = streams ? options->stdio[i] : 2;
	given[3] = options->program;
	count = options->program >= 0 ? 4 : streams ? 3 : 0;
	if (!doc || keeper_send(made, TH_SAY_EXEC, doc, given, count, err) ||
		keeper_patience(context, made, err) ||
		keeper_await(made, TH_TELL_SESSION, &message, fds, err)) {
		th_close(&made);
		return -1;
	}
	*channel = made;
	*console = fds[0];
	if (session)
		snprintf(session, TH_ID_LENGTH + 1, "%.*s", TH_ID_LENGTH,
			message.data);
	return 0;
}

int th_container_root(const struct th_context *context,
	const struct th_container_row *row, int *root, uint32_t *first_id,
	struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc;

	*root = -1;
	if (keeper_reach(context, row, TH_ACT_KILL, &channel, err))
		return -1;
	rc = keeper_send(channel, TH_SAY_ROOT, json_object(), NULL, 0, err);
	if (rc == 0)
		rc = keeper_await(channel, TH_TELL_ROOT, &message, fds, err);
	if (rc == 0)
		*root = fds[0];
	if (rc == 0 && first_id) {
		*first_id = 0;
		if (message.len)
			*first_id = (uint32_t)strtoul(message.data, NULL, 10);
	}
	th_close(&channel);
	return rc;
}

int th_container_env(const struct th_context *context,
	const struct th_container_row *row, const char *key, char **value,
	struct th_error *err)
{
	struct th_bundle bundle;
	int folder = th_container_folder(context, row, err), rc = -1;
	size_t len = strlen(key);

	if (folder >= 0)
		rc = th_bundle_read(folder, &bundle, err);
	th_close(&folder);
	if (rc)
		return -1;
	for (size_t i = 0; i < bundle.process.env.count && rc == 0; i++) {
		const char *pair = bundle.process.env.items[i];

		if (strncmp(pair, key, len) != 0 || pair[len] != '=')
			continue;
		*value = strdup(pair + len + 1);
		rc = *value ? 1 : th_fail_memory(err);
	}
	th_bundle_release(&bundle);
	return rc;
}

int th_container_has_terminal(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_bundle bundle;
	int folder = th_container_folder(context, row, err), rc = -1;

	if (folder >= 0)
		rc = th_bundle_read(folder, &bundle, err);
	th_close(&folder);
	if (rc)
		return -1;
	rc = bundle.process.terminal;
	th_bundle_release(&bundle);
	return rc;
}
