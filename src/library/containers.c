/* Making, running and removing containers. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/json.h"
#include "base/size.h"
#include "container/plan.h"
#include "container/replace.h"
#include "group/group.h"
#include "library/library.h"
#include "network/network.h"
#include "sandbox/allowance.h"
#include "store/machine.h"
#include "view/describe.h"

/* ---- making ---- */

int th_settings(json_t **doc, th_error *error)
{
	static const char *const kinds[] = {"text", "list", "flag"};
	static const char *const joins[] = {
		"one", "places", "all", "list", "apart"};
	struct th_error own = {0};
	json_t *list = json_array();

	library_begin(doc);
	for (const struct th_setting *one = th_settings_all; one->name; one++)
		json_array_append_new(list,
			json_pack("{s:s s:s s:s}", "name", one->name, "kind",
				kinds[one->kind], "joins",
				joins[one->joining]));
	return library_give(list, doc, error ? error : &own);
}

int th_setting_check(const char *name, const char *value, th_error *error)
{
	const struct th_setting *setting = th_setting_find(name);
	struct th_settings settings = {.base = "/"};
	struct th_problems problems = {0};
	struct th_error own = {0};
	void *place;
	int rc = 0;

	error = error ? error : &own;
	if (!setting || setting->kind == TH_SETTING_FLAG)
		return th_fail(error, TH_USAGE,
			"\"%.60s\" is not a setting with a value", name);
	place = th_setting_place(setting, &settings);
	if (setting->kind == TH_SETTING_TEXT)
		*(const char **)place = value;
	else if (th_strings_add(place, value))
		return th_fail_memory(error);
	th_settings_parse(&settings, &problems);
	if (problems.count) {
		*error = problems.list[0];
		rc = -1;
	}
	th_problems_release(&problems);
	th_settings_release(&settings);
	return rc;
}

int th_container_plan(
	th_hull *hull, const json_t *settings, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_settings made = {0};
	struct th_problems problems = {0};
	json_t *mounts = NULL;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = library_settings(settings, &hull->caller, &made, error);
	made.replaces = library_text(settings, "replaces");
	if (rc == 0)
		th_container_check(&hull->context, &made, &problems);
	if (problems.count)
		rc = library_problems(&problems, doc, error);
	if (rc == 0)
		mounts = json_array();
	for (size_t i = 0; rc == 0 && i < made.mount_count; i++) {
		const struct th_mount_setting *mount = &made.mounts[i];

		json_array_append_new(mounts,
			json_pack("{s:s s:s?}", "target", mount->target,
				"source", mount->source));
	}
	th_settings_release(&made);
	return rc ? -1 : library_give_list("mounts", mounts, doc, error);
}

static void note_limit(json_t *list, const char *what, const char *allowed)
{
	json_array_append_new(list,
		json_sprintf("the control groups that this runs in allow %s "
			     "%s in all: a limit beyond that changes nothing",
			allowed, what));
}

static bool is_beyond(int64_t wanted, int64_t allowed)
{
	return wanted > 0 && allowed >= 0 && wanted > allowed;
}

/* A limit of its own does not lift that of the job, or the session. */
static void note_limits(json_t *list, const struct th_limit *limit)
{
	struct th_allowance allowed;
	char text[TH_SIZE_EXACT + 16];

	if (limit->memory_bytes <= 0 && limit->cpu_us <= 0 &&
		limit->processes <= 0)
		return;
	th_allowance_read(&allowed);
	if (is_beyond(limit->memory_bytes, allowed.memory_bytes)) {
		th_size_exact((uint64_t)allowed.memory_bytes, text);
		note_limit(list, "of memory", text);
	}
	if (is_beyond(limit->cpu_us, allowed.cpu_us)) {
		snprintf(text, sizeof(text), "%.2f",
			(double)allowed.cpu_us / TH_LIMIT_PERIOD_US);
		note_limit(list, "CPUs", text);
	}
	if (is_beyond(limit->processes, allowed.processes)) {
		snprintf(text, sizeof(text), "%lld",
			(long long)allowed.processes);
		note_limit(list, "processes", text);
	}
}

/* What people should know of it. */
static json_t *notes_of(const struct th_settings *settings)
{
	json_t *list = json_array();

	note_limits(list, &settings->limit);

	for (size_t i = 0; i < settings->mount_count; i++) {
		if (settings->mounts[i].label != TH_LABEL_NONE &&
			access(TH_SELINUX, F_OK))
			json_array_append_new(list,
				json_sprintf("this host uses no security "
					     "labels, so %s gets none",
					settings->mounts[i].target));
	}
	/* The default one is no news; another one may be a slip of the keys. */
	for (size_t i = 0; i < settings->made_networks.count; i++) {
		const char *name = settings->made_networks.items[i];

		if (strcmp(name, TH_NETWORK_DEFAULT) != 0)
			json_array_append_new(list,
				json_sprintf(
					"created the network \"%s\"", name));
	}
	return list;
}

static int give_made(th_hull *hull, const struct th_container_row *row,
	const struct th_settings *settings, json_t **doc, struct th_error *err)
{
	json_t *made;

	if (!doc)
		return 0;
	made = th_view_container(&hull->context, row);
	json_object_set_new(made, "notes", notes_of(settings));
	return library_give(made, doc, err);
}

int th_container_make(
	th_hull *hull, const json_t *settings, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_settings made = {0};
	struct th_problems problems = {0};
	struct th_container_row row;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = library_settings(settings, &hull->caller, &made, error);
	if (rc == 0)
		rc = th_container_create(
			&hull->context, &made, &problems, &row, error);
	if (problems.count)
		rc = library_problems(&problems, doc, error);
	if (rc == 0)
		rc = give_made(hull, &row, &made, doc, error);
	th_settings_release(&made);
	return rc;
}

/* Of a group: it is not as the file describes it any more. 1 where it is in
 * one. */
static int mark_member(th_hull *hull, const char *id, struct th_member *member,
	struct th_error *err)
{
	static const char mark[] = " by-hand=1";
	int rc = th_member_get(hull->context.store->db, id, member, err);
	size_t len = strlen(member->settings);

	if (rc == 1 && !strstr(member->settings, mark) &&
		len + sizeof(mark) <= sizeof(member->settings))
		memcpy(member->settings + len, mark, sizeof(mark));
	return rc;
}

static int replace(th_hull *hull, const struct th_container_row *before,
	struct th_settings *settings, const struct th_replacement *how,
	json_t **doc, struct th_error *err)
{
	struct th_replacing replacing = {.settings = settings,
		.start = how->start,
		.until_ready = true,
		.ready_ms = how->ready_ms,
		.grace_ms = how->grace_ms};
	struct th_problems problems = {0};
	struct th_container_row now;
	int rc = th_container_replace(
		&hull->context, before, &replacing, &problems, &now, err);

	if (problems.count)
		return library_problems(&problems, doc, err);
	if (rc == 0)
		return give_made(hull, &now, settings, doc, err);
	if (doc)
		*doc = json_pack("{s:o s:b}", "last-words",
			th_view_said(replacing.words), "went-back",
			replacing.went_back);
	return -1;
}

int th_container_remake(th_hull *hull, const char *name, const json_t *settings,
	const struct th_replacement *how, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_settings made = {0};
	struct th_container_row before;
	struct th_member member = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = library_settings(settings, &hull->caller, &made, error);
	made.name = NULL;
	if (rc == 0)
		rc = library_container(hull, name, &before, error);
	if (rc == 0 && how->by_hand)
		rc = mark_member(hull, before.id, &member, error) < 0 ? -1 : 0;
	made.member = member.group[0] ? &member : NULL;
	if (rc == 0)
		rc = replace(hull, &before, &made, how, doc, error);
	th_settings_release(&made);
	return rc;
}

/* ---- its life ---- */

static int begin(
	th_hull *hull, struct th_container_row *row, struct th_error *err)
{

	/* A service whose main process is not its own is none. */
	if (row->state == TH_STATE_RUNNING && hull->context.notify) {
		th_fail(err, TH_IN_USE,
			"container \"%s\" already runs outside this service",
			row->name);
		return th_hint(err,
			"tidyhull stop %s, then start the service again",
			row->name);
	}
	if (row->state == TH_STATE_RUNNING)
		return th_fail(err, TH_IN_USE,
			"container \"%s\" is already running", row->name);
	return row->state == TH_STATE_WAITING
		? th_container_start_waiting(&hull->context, row, err)
		: th_container_start(&hull->context, row, err);
}

int th_container_begin(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, name, &row, error) ||
		begin(hull, &row, error))
		return -1;
	/* One that is not kept may be gone by now. */
	if (doc)
		*doc = library_now(hull, row.id);
	if (doc && !*doc)
		*doc = th_view_container(&hull->context, &row);
	return 0;
}

int th_container_end(th_hull *hull, const char *name, int grace_ms,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct th_ending ending = {0};

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, name, &row, error))
		return -1;
	if (th_container_is_up(&row) &&
		th_container_stop(
			&hull->context, &row, 0, grace_ms, &ending, error))
		return -1;
	/* One that was not kept is gone by now. */
	return library_give(library_ending(&ending), doc, error);
}

int th_container_kill(th_hull *hull, const char *name, const char *signal,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	int number = th_signal_parse(signal), rc;

	error = error ? error : &own;
	library_begin(doc);
	if (th_object_find(&hull->context, name,
		    TH_KIND_CONTAINER | TH_KIND_SESSION, &object, error))
		return -1;
	if (number <= 0) {
		th_object_release(&object);
		th_fail(error, TH_USAGE, "\"%.50s\" is not a signal", signal);
		th_signal_hint(signal, error);
		return th_hint(
			error, "use a name or number: KILL, HUP, USR1, 10");
	}
	rc = object.kind == TH_KIND_SESSION
		? th_session_signal(
			  &hull->context, &object.session, number, error)
		: th_container_signal(&hull->context, &object.container, number,
			  false, error);
	if (rc == 0)
		rc = library_give(json_pack("{s:s s:s? s:i}", "name",
					  object.kind == TH_KIND_SESSION
						  ? object.session.id
						  : object.container.name,
					  "signal", th_signal_name(number),
					  "number", number),
			doc, error);
	th_object_release(&object);
	return rc;
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

static int pause_it(th_hull *hull, const char *name, bool on, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;

	error = error ? error : &own;
	return library_container(hull, name, &row, error) ||
			th_container_pause(&hull->context, &row, on, error)
		? -1
		: 0;
}

int th_container_freeze(th_hull *hull, const char *name, th_error *error)
{
	return pause_it(hull, name, true, error);
}

int th_container_thaw(th_hull *hull, const char *name, th_error *error)
{
	return pause_it(hull, name, false, error);
}

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

int th_container_change(th_hull *hull, const char *name, const json_t *changes,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	static const char what[] = "the changes";
	const char *restart = NULL, *probe = NULL;
	struct th_strings limits = {0};
	struct th_container_row row;
	char text[TH_LIMIT_TEXT];
	int rc = -1;

	error = error ? error : &own;
	library_begin(doc);
	if (th_json_strings(changes, "limit", what, &limits, error) < 0 ||
		th_json_string(changes, "restart", what, &restart, error) < 0 ||
		th_json_string(changes, "probe", what, &probe, error) < 0 ||
		library_container(hull, name, &row, error))
		goto out;
	rc = restart || probe ? th_container_adjust_life(&hull->context, &row,
					restart, probe, error)
			      : 0;
	if (rc == 0 && limits.count)
		rc = th_container_adjust(
			&hull->context, &row, &limits, text, error);
	if (rc == 0)
		rc = library_give(json_pack("{s:s?}", "limit",
					  limits.count ? text : NULL),
			doc, error);
out:
	th_strings_release(&limits);
	return rc;
}

/* ---- waiting ---- */

/* Its end, whether its keeper has told it or the state. */
static int give_end(th_hull *hull, struct th_container_row *row,
	const struct th_ending *told, json_t **doc, struct th_error *err)
{
	struct th_ending ending = *told;
	const char *name = row->name;

	if (ending.outcome == TH_OUTCOME_NONE) {
		struct th_container_row now = *row;

		if (th_container_settle_row(&hull->context, &now, err) ||
			th_state_get(hull->context.store->db, row->id, &now,
				err) < 0)
			return -1;
		if (!now.id[0] || now.outcome == TH_OUTCOME_NONE)
			return th_fail(err, TH_FAILED,
				"container \"%s\" is gone; how it ended is "
				"unknown",
				name);
		ending.outcome = (int32_t)now.outcome;
		ending.code = now.code;
	}
	switch ((enum th_outcome)ending.outcome) {
	case TH_OUTCOME_EXITED:
	case TH_OUTCOME_SIGNAL:
		break;
	case TH_OUTCOME_OUT_OF_MEMORY:
		ending.code = 9;
		break;
	default: /* it has no code of its own */
		return library_give(json_pack("{s:n}", "exit-code"), doc, err);
	}
	return library_give(
		json_pack("{s:i}", "exit-code", library_exit_code(&ending)),
		doc, err);
}

static int wait_end(th_hull *hull, struct th_container_row *row, int timeout_ms,
	json_t **doc, struct th_error *err)
{
	struct th_ending ending = {0};
	int rc;

	if (row->state == TH_STATE_CREATED) {
		th_fail(err, TH_FAILED,
			"container \"%s\" has never been started", row->name);
		return th_hint(err, "tidyhull start %s", row->name);
	}
	rc = th_container_wait(
		&hull->context, row->id, "end", NULL, timeout_ms, &ending, err);
	if (rc < 0)
		return -1;
	if (rc != 1)
		ending.outcome = TH_OUTCOME_NONE;
	return give_end(hull, row, &ending, doc, err);
}

static int wait_ready(th_hull *hull, const struct th_container_row *row,
	int timeout_ms, json_t **doc, struct th_error *err)
{
	struct th_ending ending;
	int rc;

	if (!row->probe[0]) {
		th_fail(err, TH_USAGE,
			"container \"%s\" has no probe, so it cannot become "
			"ready",
			row->name);
		return th_hint(err,
			"for example: tidyhull adjust %s --probe "
			"tcp:80",
			row->name);
	}
	rc = th_container_wait(&hull->context, row->id, "ready", NULL,
		timeout_ms, &ending, err);
	if (rc == 2)
		return library_give(json_pack("{s:b}", "ready", 1), doc, err);
	if (rc < 0)
		return -1;
	th_fail(err, TH_FAILED, "container \"%s\" is not running", row->name);
	return th_hint(err, "tidyhull why %s", row->name);
}

static int wait_session(th_hull *hull, const struct th_session_row *session,
	int timeout_ms, json_t **doc, struct th_error *err)
{
	struct th_session_row *now = NULL;
	struct th_ending ending;
	size_t count = 0;
	int code = session->code, rc;

	if (!session->ended_us) {
		rc = th_container_wait(&hull->context, session->container,
			"end", session->id, timeout_ms, &ending, err);
		if (rc < 0)
			return -1;
		code = library_exit_code(&ending);
		if (rc != 1 &&
			th_state_sessions(hull->context.store->db, NULL,
				session->id, &now, &count, err))
			return -1;
		if (rc != 1)
			code = count && now[0].ended_us ? now[0].code : 137;
		free(now);
	}
	return library_give(json_pack("{s:i}", "exit-code", code), doc, err);
}

int th_container_await(th_hull *hull, const char *name, bool ready,
	int timeout_ms, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	int64_t until_ms = th_clock_mono_ms() + timeout_ms;
	struct th_object object;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (th_object_find(&hull->context, name,
		    TH_KIND_CONTAINER | TH_KIND_SESSION, &object, error))
		return -1;
	if (object.kind == TH_KIND_SESSION)
		rc = wait_session(
			hull, &object.session, timeout_ms, doc, error);
	else if (ready)
		rc = wait_ready(
			hull, &object.container, timeout_ms, doc, error);
	else
		rc = wait_end(hull, &object.container, timeout_ms, doc, error);
	th_object_release(&object);
	/* The time is over: no error of anybody. */
	if (rc && timeout_ms >= 0 && th_clock_mono_ms() >= until_ms) {
		th_error_clear(error);
		return 1;
	}
	return rc;
}
