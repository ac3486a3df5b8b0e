#include "container/replace.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "base/file.h"
#include "base/json.h"
#include "container/keeper_ask.h"
#include "container/why.h"
#include "container/lock.h"
#include "container/plan.h"
#include "container/secrets.h"
#include "network/network.h"
#include "store/machine.h"
#include "store/replacement_state.h"

/* A keeper answers at once; one of an older version not at all. */
#define HAND_MS 2000
/* How long a start is waited for that nobody waits for any more. */
#define STEPS 500
#define STEP_NS 10000000
/* How long one without a probe must not have ended. */
#define SETTLE_MS 1000

/* One replacement on its way. */
struct th_way {
	const struct th_context *context;
	struct th_container_row before;
	struct th_replacing *replacing;
	struct th_container_row row; /* of the successor */
	struct th_replacement_row names;
	struct th_handed handed;
	int lock;
	bool was_up;
};

/* ---- the one before it ---- */

/* Others would lose the network that they are in. */
static int check_guests(const struct th_context *context,
	const struct th_container_row *before, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	char with[sizeof(TH_NETWORK_WITH) + TH_ID_LENGTH];
	size_t count = 0;
	int rc;

	snprintf(with, sizeof(with), TH_NETWORK_WITH "%s", before->id);
	if (th_state_list(context->store->db, NULL, &rows, &count, err))
		return -1;
	rc = 0;
	for (size_t i = 0; rc == 0 && i < count; i++) {
		if (strcmp(rows[i].network, with) != 0)
			continue;
		rc = th_fail(err, TH_IN_USE,
			"container \"%s\" shares the network of \"%s\"",
			rows[i].name, before->name);
		th_hint(err, "remove it first: tidyhull remove %s%s",
			th_container_is_up(&rows[i]) ? "--force " : "",
			rows[i].name);
	}
	free(rows);
	return rc;
}

static int check(const struct th_context *context,
	const struct th_container_row *before, struct th_error *err)
{
	if (!before->keep) {
		th_fail(err, TH_FAILED,
			"container \"%s\" goes when it ends, so nothing can "
			"take its place",
			before->name);
		return th_hint(
			err, "run keeps a container that is given --keep");
	}
	return check_guests(context, before, err);
}

/* What cannot be had is bound anew: then there is a moment without. */
static void take_ports(struct th_way *way)
{
	struct th_error ignored = {0}; /* then they are bound anew */
	int channel = -1;

	if (keeper_reach(way->context, &way->before, TH_ACT_STOP, &channel,
		    &ignored))
		return;
	if (th_channel_send(channel, TH_SAY_PORTS, NULL, 0, NULL, 0) == 0)
		th_handed_receive(channel, HAND_MS, &way->handed, &ignored);
	th_close(&channel);
}

static bool has_ended(struct th_way *way, struct th_error *err)
{
	struct th_container_row now;

	return th_state_get(way->context->store->db, way->before.id, &now,
		       err) == 1 &&
		!th_container_is_up(&now);
}

/* Its stop is on its way, and cannot be called back: what is to run as before
 * can only be started again once it has ended. */
static void await_stopped(struct th_way *way)
{
	struct th_context patient = *way->context;
	struct th_ending ending;
	struct th_error ignored = {0}; /* has_ended() looks */

	patient.cancel = NULL;
	th_container_wait(
		&patient, way->before.id, "end", NULL, -1, &ending, &ignored);
}

/* *stopped: it does not run any more, also where this fails. */
static int stop_before(struct th_way *way, bool *stopped, struct th_error *err)
{
	struct th_ending ending;
	struct th_error own = {0};

	*stopped = true;
	if (!way->was_up)
		return 0;
	take_ports(way);
	if (th_container_stop(way->context, &way->before, 0,
		    way->replacing->grace_ms, &ending, &own) == 0)
		return th_context_cancelled(way->context)
			? th_fail(err, TH_FAILED, "interrupted")
			: 0;
	if (th_context_cancelled(way->context)) {
		await_stopped(way);
		*stopped = has_ended(way, &own);
		return th_fail(err, TH_FAILED, "interrupted");
	}
	/* It may have ended by itself. */
	*stopped = has_ended(way, err);
	if (*stopped)
		return 0;
	if (!err->code)
		*err = own;
	return -1;
}

/* ---- the successor ---- */

static void keep_words(struct th_way *way)
{
	struct th_error ignored = {0}; /* a hint only */
	struct th_container_row now;
	struct th_why why;
	char *words = way->replacing->words;

	words[0] = '\0';
	if (th_state_get(way->context->store->db, way->row.id, &now,
		    &ignored) != 1 ||
		th_why(way->context, &now, &why, &ignored))
		return;
	for (size_t i = 0; i < why.line_count; i++) {
		size_t used = strlen(words);

		snprintf(words + used, TH_LAST_WORDS - used, "%s\n",
			why.lines[i].text);
	}
	th_why_release(&why);
}

static int say_ended(const struct th_container_row *now, struct th_error *err)
{
	char text[TH_CAUSE_TEXT];

	if (now->outcome == TH_OUTCOME_EXITED)
		return th_fail(err, TH_FAILED,
			"the new container ended at once, with exit code %d",
			now->code);
	th_cause_format(&now->cause, text);
	return th_fail(
		err, TH_FAILED, "the new container ended at once: %s", text);
}

static int await_ready(struct th_way *way, struct th_error *err)
{
	bool probed = way->row.probe[0] != '\0';
	struct th_container_row now;
	struct th_ending ending;
	struct th_error own = {0};
	int rc;

	rc = th_container_wait(way->context, way->row.id,
		probed ? "ready" : "end", NULL,
		probed ? way->replacing->ready_ms : SETTLE_MS, &ending, &own);
	if (rc == 2)
		return 0;
	if (th_context_cancelled(way->context))
		return th_fail(err, TH_FAILED, "interrupted");
	if (th_state_get(way->context->store->db, way->row.id, &now, err) != 1)
		return -1;
	if (!th_container_is_up(&now))
		return say_ended(&now, err);
	if (!probed)
		return 0;
	return th_fail(err, TH_FAILED,
		"the new container was not ready within %d seconds",
		way->replacing->ready_ms / 1000);
}

static int start_successor(struct th_way *way, struct th_error *err)
{
	if (!way->was_up && !way->replacing->start)
		return 0;
	if (th_container_start_handed(
		    way->context, &way->row, &way->handed, err))
		return -1;
	return way->replacing->until_ready ? await_ready(way, err) : 0;
}

/* ---- there and back ---- */

/* The successor goes; the one before it is as it was. */
static int go_back(struct th_way *way, bool stopped, struct th_error *err)
{
	const struct th_context *context = way->context;
	struct th_store *store = context->store;
	struct th_container_row now;
	struct th_error ignored = {0}; /* the first one counts */

	if (th_state_get(store->db, way->row.id, &now, &ignored) == 1 &&
		th_container_is_up(&now)) {
		struct th_ending ending;

		th_container_stop(context, &now, 0, -1, &ending, &ignored);
	}
	if (way->names.stage == TH_STAGE_SWAPPED &&
		th_replacement_swap(
			store->db, &way->names, true, context->actor, err))
		return -1;
	way->names.stage = TH_STAGE_MADE;
	if (stopped && way->was_up &&
		th_container_start_handed(
			context, &way->before, &way->handed, err))
		return -1;
	/* Where this fails, the next command that looks does it. */
	if (th_replacement_decide(store->db, &way->names, TH_STAGE_GIVEN_UP,
		    NULL, context->actor, &ignored) == 0 &&
		th_state_get(store->db, way->row.id, &now, &ignored) == 1)
		th_container_remove(context, &now, true, &ignored);
	return 0;
}

static int go(struct th_way *way, struct th_error *err)
{
	struct th_store *store = way->context->store;
	struct th_error own = {0};
	bool stopped = false;

	if (stop_before(way, &stopped, err))
		goto back;
	if (th_replacement_swap(
		    store->db, &way->names, false, way->context->actor, err))
		goto back;
	way->names.stage = TH_STAGE_SWAPPED;
	snprintf(way->row.name, sizeof(way->row.name), "%s", way->before.name);
	if (start_successor(way, err) == 0)
		return 0;
back:
	keep_words(way);
	way->replacing->went_back = go_back(way, stopped, &own) == 0;
	/* What went wrong first is what counts. */
	if (!way->replacing->went_back)
		th_hint(err,
			"the container before it could not be brought back: "
			"%.150s",
			own.msg);
	return -1;
}

static void end_way(const struct th_context *context, struct th_way *way)
{
	th_handed_release(&way->handed);
	th_build_unlock(context->store, way->names.maker, &way->lock);
	free(way);
}

int th_replacement_begin_way(const struct th_context *context,
	const struct th_container_row *before, struct th_replacing *replacing,
	struct th_problems *problems, struct th_container_row *row,
	struct th_way **result, struct th_error *err)
{
	struct th_settings *settings = replacing->settings;
	struct th_way *way;

	*result = NULL;
	replacing->went_back = false;
	replacing->words[0] = '\0';
	if (check(context, before, err))
		return -1;
	way = calloc(1, sizeof(*way));
	if (!way)
		return th_fail_memory(err);
	*way = (struct th_way){.context = context,
		.before = *before,
		.replacing = replacing,
		.lock = -1,
		.was_up = th_container_is_up(before)};
	th_id_new(way->names.maker);
	if (th_build_lock(context->store, way->names.maker, &way->lock, err) !=
		1) {
		free(way);
		return -1;
	}
	settings->name = way->before.name;
	settings->replaces = way->before.id;
	settings->maker = way->names.maker;
	settings->replaces_running = way->was_up;
	settings->keep = true;
	if (th_container_create(context, settings, problems, &way->row, err) ==
		0) {
		memcpy(way->names.successor, way->row.id, sizeof(way->row.id));
		memcpy(way->names.container, before->id, sizeof(before->id));
		if (go(way, err) == 0 &&
			th_state_get(
				context->store->db, way->row.id, row, err) == 1)
			*result = way;
	}
	/* Those were the way's. */
	settings->name = before->name;
	settings->replaces = before->id;
	settings->maker = NULL;
	if (!*result)
		end_way(context, way);
	return *result ? 0 : -1;
}

void th_replacement_commit(const struct th_context *context, struct th_way *way)
{
	struct th_store *store = context->store;
	struct th_container_row now;
	struct th_error ignored = {0}; /* the next one that looks does it */

	if (th_replacement_decide(store->db, &way->names, TH_STAGE_DONE, NULL,
		    context->actor, &ignored) == 0 &&
		th_state_get(store->db, way->before.id, &now, &ignored) == 1)
		th_container_remove(context, &now, false, &ignored);
	end_way(context, way);
}

int th_replacement_revert(const struct th_context *context, struct th_way *way,
	struct th_error *err)
{
	int rc;

	way->context = context;
	rc = go_back(way, true, err);
	end_way(context, way);
	return rc;
}

int th_container_replace(const struct th_context *context,
	const struct th_container_row *before, struct th_replacing *replacing,
	struct th_problems *problems, struct th_container_row *row,
	struct th_error *err)
{
	struct th_way *way;

	if (th_replacement_begin_way(
		    context, before, replacing, problems, row, &way, err))
		return -1;
	th_replacement_commit(context, way);
	return 0;
}

/* ---- what killed commands leave ---- */

int th_replacement_check(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_replacement_row *rows = NULL;
	size_t count = 0;
	int rc;

	if (th_replacement_list(
		    context->store->db, row->id, &rows, &count, err))
		return -1;
	/* What is decided is to be removed, by whoever comes first. */
	rc = count && rows[0].stage <= TH_STAGE_SWAPPED &&
		th_build_is_alive(context->store, rows[0].maker);
	free(rows);
	if (rc)
		th_fail(err, TH_IN_USE,
			"container \"%s\" is being made anew by another "
			"command",
			row->name);
	return rc;
}

/* The keeper of a killed command may still be starting the successor: what
 * comes of that is known a moment later. */
static void await_start(const struct th_context *context,
	struct th_container_row *successor, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = STEP_NS};
	struct th_store *store = context->store;
	int pid;

	for (int tries = 0; tries < STEPS && !th_container_is_up(successor) &&
		th_lock_held(store->run_fd, successor->id, &pid);
		tries++) {
		nanosleep(&step, NULL);
		if (th_state_get(store->db, successor->id, successor, err) != 1)
			return;
	}
}

/* A successor that runs has made it: the other one goes. One that does not is
 * nothing yet: the name goes back. */
static int decide(const struct th_context *context,
	struct th_replacement_row *way,
	const struct th_container_row *successor, struct th_error *err)
{
	struct th_db *db = context->store->db;

	if (way->stage == TH_STAGE_SWAPPED && th_container_is_up(successor)) {
		way->stage = TH_STAGE_DONE;
		return th_replacement_decide(
			db, way, TH_STAGE_DONE, NULL, context->actor, err);
	}
	if (way->stage == TH_STAGE_SWAPPED &&
		th_replacement_swap(db, way, true, context->actor, err))
		return -1;
	way->stage = TH_STAGE_GIVEN_UP;
	return th_replacement_decide(db, way, TH_STAGE_GIVEN_UP,
		"was to be made anew, and the command was killed",
		context->actor, err);
}

static void settle(const struct th_context *context,
	struct th_replacement_row *way, struct th_error *err)
{
	struct th_db *db = context->store->db;
	struct th_container_row successor, before;

	if (th_state_get(db, way->successor, &successor, err) != 1 ||
		th_state_get(db, way->container, &before, err) != 1)
		return;
	if (way->stage == TH_STAGE_SWAPPED)
		await_start(context, &successor, err);
	if (th_container_settle_row(context, &successor, err) ||
		!successor.id[0])
		return;
	if (way->stage != TH_STAGE_DONE && way->stage != TH_STAGE_GIVEN_UP &&
		decide(context, way, &successor, err))
		return;
	th_container_remove(context,
		way->stage == TH_STAGE_DONE ? &before : &successor, true, err);
}

void th_replacements_settle(const struct th_context *context)
{
	struct th_replacement_row *rows = NULL;
	struct th_error ignored = {0}; /* the next look tries again */
	size_t count = 0;

	if (th_replacement_list(
		    context->store->db, NULL, &rows, &count, &ignored))
		return;
	for (size_t i = 0; i < count; i++) {
		if (!th_build_is_alive(context->store, rows[i].maker))
			settle(context, &rows[i], &ignored);
		th_error_clear(&ignored);
	}
	free(rows);
}

/* ---- its settings ---- */

int th_container_hidden(const struct th_context *context,
	const struct th_container_row *row, struct th_strings *keys,
	struct th_strings *files, struct th_error *err)
{
	struct th_plan plan = {0};
	json_t *doc = NULL, *value;
	const char *name;
	int folder = th_container_folder(context, row, err), rc = -1;

	if (folder < 0 || th_plan_read(folder, &plan, err) ||
		th_json_read_file(
			folder, TH_SECRETS, TH_SECRETS_MAX, &doc, err) < 0)
		goto out;
	rc = 0;
	for (size_t i = 0; rc == 0 && i < plan.secrets.count; i++)
		rc = th_strings_add(keys, plan.secrets.items[i]);
	json_object_foreach(doc, name, value)
	{
		if (rc == 0 && json_is_string(value))
			rc = th_strings_take(files,
				th_format("%s=%s", name,
					json_string_value(value)));
	}
	if (rc)
		th_fail_memory(err);
out:
	json_decref(doc);
	th_plan_release(&plan);
	th_close(&folder);
	return rc;
}
