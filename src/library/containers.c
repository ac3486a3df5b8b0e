/* Making, running and removing containers. */
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "ipc/words.h"
#include "library/library.h"
#include "store/machine.h"
#include "view/describe.h"

int th_containers(th_hull *hull, bool all, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row *rows = NULL;
	json_t *list = json_array();
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if (th_container_rows(&hull->context, &rows, &count, error)) {
		json_decref(list);
		return -1;
	}
	for (size_t i = 0; i < count; i++) {
		if (all || th_container_is_up(&rows[i]))
			json_array_append_new(list,
				th_view_container(&hull->context, &rows[i]));
	}
	free(rows);
	return library_give_list("containers", list, json, error);
}

int th_container(th_hull *hull, const char *name, bool reveal, char **json,
	th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;

	error = error ? error : &own;
	library_begin(json);
	if (library_container(hull, name, &row, error))
		return -1;
	return library_give(
		th_view_container_fully(&hull->context, &row, reveal), json,
		error);
}

int th_container_make(
	th_hull *hull, const char *settings, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_settings made = {0};
	struct th_problems problems = {0};
	struct th_container_row row;
	json_t *doc = NULL;
	int rc;

	error = error ? error : &own;
	library_begin(json);
	if (th_json_parse(
		    settings, strlen(settings), "the settings", &doc, error))
		return -1;
	rc = library_settings(doc, &hull->caller, &made, error);
	if (rc == 0)
		rc = th_container_create(
			&hull->context, &made, &problems, &row, error);
	if (problems.count)
		rc = library_problems(&problems, error);
	if (rc == 0)
		rc = library_give(json ? th_view_container(&hull->context, &row)
				       : json_null(),
			json, error);
	th_settings_release(&made);
	json_decref(doc);
	return rc;
}

int th_container_begin(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};
	const struct th_size none = {0};
	struct th_container_row row;

	error = error ? error : &own;
	if (library_container(hull, name, &row, error))
		return -1;
	if (row.state == TH_STATE_WAITING)
		return th_container_start_waiting(&hull->context, &row, error);
	if (row.state != TH_STATE_CREATED && row.state != TH_STATE_STOPPED)
		return th_act_check(&row, TH_ACT_START, error);
	return th_container_start(
		&hull->context, &row, TH_BACKGROUND, none, NULL, error);
}

int th_container_end(th_hull *hull, const char *name, int grace_ms, char **json,
	th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct th_ending ending = {0};

	error = error ? error : &own;
	library_begin(json);
	if (library_container(hull, name, &row, error))
		return -1;
	if (th_container_is_up(&row) &&
		th_container_stop(
			&hull->context, &row, 0, grace_ms, &ending, error))
		return -1;
	if (!json)
		return 0;
	/* One that was not kept is gone by now. */
	return library_give(
		json_pack("{s:s s:i s:b}", "kind",
			th_outcome_word((enum th_outcome)ending.outcome),
			"code", (int)ending.code, "by-force", ending.by_force),
		json, error);
}

int th_container_kill(
	th_hull *hull, const char *name, const char *signal, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	int number = th_signal_parse(signal);

	error = error ? error : &own;
	if (number < 0)
		return th_fail(
			error, TH_USAGE, "\"%.30s\" is not a signal", signal);
	if (library_container(hull, name, &row, error))
		return -1;
	return th_container_signal(&hull->context, &row, number, false, error);
}

int th_container_again(
	th_hull *hull, const char *name, int grace_ms, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;

	error = error ? error : &own;
	return library_container(hull, name, &row, error) ||
			th_container_restart(
				&hull->context, &row, grace_ms, error)
		? -1
		: 0;
}

static int pause(th_hull *hull, const char *name, bool on, th_error *error)
{
	struct th_container_row row;

	return library_container(hull, name, &row, error) ||
			th_container_pause(&hull->context, &row, on, error)
		? -1
		: 0;
}

int th_container_freeze(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};

	error = error ? error : &own;
	return pause(hull, name, true, error);
}

int th_container_thaw(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};

	error = error ? error : &own;
	return pause(hull, name, false, error);
}

int th_container_await(th_hull *hull, const char *name, bool ready,
	int timeout_ms, th_error *error)
{
	struct th_error own = {0}, *err = error ? error : &own;
	int64_t until_ms = th_clock_mono_ms() + timeout_ms;
	struct th_container_row row;
	struct th_ending ending;
	int rc;

	if (library_container(hull, name, &row, err))
		return -1;
	if (!th_container_is_up(&row))
		return 0;
	rc = th_container_wait(&hull->context, row.id, ready ? "ready" : "end",
		NULL, timeout_ms, &ending, err);
	if (rc >= 0)
		return 0;
	/* The time is over: no error of anybody. */
	if (timeout_ms >= 0 && th_clock_mono_ms() >= until_ms) {
		th_error_clear(err);
		return 1;
	}
	return -1;
}

/* ---- another command ---- */

struct command {
	struct th_strings words, env;
	const char *user, *workdir;
};

static int read_command(
	const json_t *doc, struct command *command, struct th_error *err)
{
	static const char what[] = "the command";

	if (th_json_strings(doc, "command", what, &command->words, err) < 0 ||
		th_json_strings(doc, "env", what, &command->env, err) < 0 ||
		th_json_string(doc, "user", what, &command->user, err) < 0 ||
		th_json_string(doc, "workdir", what, &command->workdir, err) <
			0)
		return -1;
	return command->words.count
		? 0
		: th_fail(err, TH_USAGE, "no \"command\" is given");
}

/* To its end; the container's end is one, too. */
static int attend(int channel, int *code, struct th_error *err)
{
	struct th_message *message = malloc(sizeof(*message));
	struct th_ending ending;
	int fds[TH_CHANNEL_FDS], rc = message ? 1 : th_fail_memory(err);

	while (rc == 1) {
		rc = th_channel_receive(channel, message, fds, err);
		for (int i = 0; rc == 1 && i < TH_CHANNEL_FDS; i++)
			th_close(&fds[i]);
		if (rc == 1 && message->type == TH_TELL_FAILED) {
			rc = th_words_error(message, err);
		} else if (rc == 1 && message->type == TH_TELL_ENDED &&
			th_words_ending(message, &ending)) {
			*code = ending.outcome == TH_OUTCOME_SIGNAL
				? 128 + ending.code
				: ending.code;
			free(message);
			return 0;
		}
	}
	free(message);
	return rc < 0 ? -1
		      : th_fail(err, TH_FAILED,
				"the container ended before the command");
}

int th_container_run(th_hull *hull, const char *name, const char *command,
	const int streams[3], int *code, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct command wanted = {0};
	struct th_exec_options options = {.command = &wanted.words,
		.env = &wanted.env,
		.stdio = {streams[0], streams[1], streams[2]},
		.program = -1};
	json_t *doc = NULL;
	int channel = -1, console = -1, rc;

	error = error ? error : &own;
	if (th_json_parse(command, strlen(command), "the command", &doc, error))
		return -1;
	rc = read_command(doc, &wanted, error);
	options.user = wanted.user;
	options.workdir = wanted.workdir;
	if (rc == 0)
		rc = library_container(hull, name, &row, error);
	if (rc == 0)
		rc = th_container_exec(&hull->context, &row, &options, &channel,
			&console, NULL, error);
	if (rc == 0)
		rc = attend(channel, code, error);
	th_close(&channel);
	th_close(&console);
	th_strings_release(&wanted.words);
	th_strings_release(&wanted.env);
	json_decref(doc);
	return rc;
}

/* ---- changing and removing ---- */

int th_container_name(
	th_hull *hull, const char *name, const char *new_name, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;

	error = error ? error : &own;
	return library_container(hull, name, &row, error) ||
			th_container_rename(
				&hull->context, &row, new_name, error)
		? -1
		: 0;
}

int th_container_change(
	th_hull *hull, const char *name, const char *changes, th_error *error)
{
	struct th_error own = {0};
	static const char what[] = "the changes";
	const char *restart = NULL, *probe = NULL;
	struct th_strings limits = {0};
	struct th_container_row row;
	char text[TH_LIMIT_TEXT];
	json_t *doc = NULL;
	int rc = -1;

	error = error ? error : &own;
	if (th_json_parse(changes, strlen(changes), what, &doc, error))
		return -1;
	if (th_json_strings(doc, "limit", what, &limits, error) < 0 ||
		th_json_string(doc, "restart", what, &restart, error) < 0 ||
		th_json_string(doc, "probe", what, &probe, error) < 0 ||
		library_container(hull, name, &row, error))
		goto out;
	rc = limits.count ? th_container_adjust(
				    &hull->context, &row, &limits, text, error)
			  : 0;
	if (rc == 0 && (restart || probe))
		rc = th_container_adjust_life(
			&hull->context, &row, restart, probe, error);
out:
	th_strings_release(&limits);
	json_decref(doc);
	return rc;
}

int th_container_delete(
	th_hull *hull, const char *name, bool force, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;

	error = error ? error : &own;
	return library_container(hull, name, &row, error) ||
			th_container_remove(&hull->context, &row, force, error)
		? -1
		: 0;
}
