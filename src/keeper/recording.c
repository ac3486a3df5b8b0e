/* What the state is to know, in order. The loop never waits for the database:
 * what it does not take at once waits here, and is tried again. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "keeper/keeper.h"

/* How long a locked database may hold up the loop, and when it is tried
 * again; a full disk is in no hurry. */
#define PATIENCE_MS 20
#define SOON_MS 50
#define LATER_MS 1000
/* Events beyond so many are counted, not kept. */
#define WAITING_MAX 200

enum kind { KIND_NOTE, KIND_CHANGE, KIND_DISCARD, KIND_JOINED, KIND_SESSION };

struct record {
	struct record *next;
	enum kind kind;
	struct th_change change; /* of a note: the cause, at_us, health */
	struct th_session_row *joined; /* owned */
	char session[TH_ID_LENGTH + 1];
	char actor[128], health[12], boot[40], group[TH_CGROUP_PATH];
};

void keeper_record_init(struct keeper *keeper)
{
	th_db_set_patience(keeper->store->db, PATIENCE_MS);
	keeper->store->patience_ms = PATIENCE_MS;
}

/* Its texts are the caller's: copies stay. */
static struct record *copy(enum kind kind, const struct th_change *change)
{
	struct record *record = calloc(1, sizeof(*record));

	if (!record)
		return NULL;
	record->kind = kind;
	record->change = *change;
	if (!record->change.at_us)
		record->change.at_us = th_clock_now_us();
	snprintf(record->actor, sizeof(record->actor), "%s",
		change->actor ? change->actor : "");
	record->change.actor = record->actor;
	if (change->health) {
		snprintf(record->health, sizeof(record->health), "%s",
			change->health);
		record->change.health = record->health;
	}
	if (change->boot) {
		snprintf(
			record->boot, sizeof(record->boot), "%s", change->boot);
		record->change.boot = record->boot;
	}
	if (change->cgroup) {
		snprintf(record->group, sizeof(record->group), "%s",
			change->cgroup);
		record->change.cgroup = record->group;
	}
	return record;
}

static void free_record(struct record *record)
{
	if (record)
		free(record->joined);
	free(record);
}

/* Of those that are told no more, the logs go. */
static int end_session(struct keeper *keeper, const struct record *record,
	struct th_error *err)
{
	struct th_db *db = keeper->store->db;
	struct th_error ignored = {0}; /* the next one does it */
	struct th_strings old = {0};

	if (th_state_session_end(db, record->session, record->change.code, err))
		return -1;
	if (th_state_fold_sessions(db, keeper->id, &old, &ignored) == 0) {
		for (size_t i = 0; i < old.count; i++)
			keeper_remove_session_log(keeper, old.items[i]);
	}
	th_strings_release(&old);
	return 0;
}

static int carry_out(struct keeper *keeper, const struct record *record,
	struct th_error *err)
{
	const struct th_change *change = &record->change;
	struct th_store *store = keeper->store;

	switch (record->kind) {
	case KIND_NOTE:
		return th_state_note_at(store->db, keeper->id, change->at_us,
			&change->cause, change->actor, change->health, err);
	case KIND_CHANGE:
		return th_state_change(store->db, keeper->id, change, err);
	case KIND_DISCARD:
		return th_state_discard(store->db, keeper->id, change, err);
	case KIND_JOINED:
		return th_state_session_add(store->db, record->joined, err);
	case KIND_SESSION:
		return end_session(keeper, record, err);
	}
	return 0;
}

static void tell_lost(struct keeper *keeper)
{
	struct th_cause cause = {
		.kind = TH_CAUSE_STATE_AGAIN, .number = keeper->recording.lost};
	struct th_error err = {0};

	if (!keeper->recording.lost)
		return;
	if (th_state_note(keeper->store->db, keeper->id, &cause, "keeper", NULL,
		    &err) == 0 ||
		!th_db_not_now(&err))
		keeper->recording.lost = 0;
}

void keeper_record_work(struct keeper *keeper)
{
	while (keeper->recording.first) {
		struct record *first = keeper->recording.first;
		struct th_error err = {0};

		if (carry_out(keeper, first, &err) && th_db_not_now(&err)) {
			keeper->recording.due_ms = th_clock_mono_ms() +
				(th_error_busy(&err) ? SOON_MS : LATER_MS);
			return;
		}
		/* What the state refuses (the container is gone, the step makes
		 * no sense any more) is not asked of it again. */
		keeper->recording.first = first->next;
		if (!keeper->recording.first)
			keeper->recording.end = &keeper->recording.first;
		keeper->recording.count--;
		free_record(first);
	}
	tell_lost(keeper);
}

int64_t keeper_record_due(const struct keeper *keeper)
{
	return keeper->recording.first ? keeper->recording.due_ms : 0;
}

static void add(struct keeper *keeper, struct record *record)
{
	bool first = !keeper->recording.first;

	if (!record ||
		(record->kind == KIND_NOTE &&
			keeper->recording.count >= WAITING_MAX)) {
		keeper->recording.lost++;
		free_record(record);
		return;
	}
	*keeper->recording.end = record;
	keeper->recording.end = &record->next;
	keeper->recording.count++;
	/* Behind what waits there is nothing to try yet. */
	if (first)
		keeper_record_work(keeper);
}

void keeper_record_change(struct keeper *keeper, const struct th_change *change)
{
	add(keeper, copy(KIND_CHANGE, change));
}

void keeper_record_discard(
	struct keeper *keeper, const struct th_change *change)
{
	add(keeper, copy(KIND_DISCARD, change));
}

void keeper_record_joined(struct keeper *keeper, struct th_session_row *row)
{
	const struct th_change change = {.code = 0};
	struct record *record = copy(KIND_JOINED, &change);

	if (record)
		record->joined = row;
	else
		free(row);
	add(keeper, record);
}

void keeper_record_session(struct keeper *keeper, const char *session, int code)
{
	const struct th_change change = {.code = code};
	struct record *record = copy(KIND_SESSION, &change);

	if (record)
		snprintf(record->session, sizeof(record->session), "%s",
			session);
	add(keeper, record);
}

void keeper_note_health(
	struct keeper *keeper, const struct th_cause *cause, const char *health)
{
	const struct th_change change = {
		.cause = *cause, .actor = "keeper", .health = health};

	add(keeper, copy(KIND_NOTE, &change));
}

void keeper_note_by(
	struct keeper *keeper, const struct th_cause *cause, const char *actor)
{
	const struct th_change change = {.cause = *cause, .actor = actor};

	add(keeper, copy(KIND_NOTE, &change));
}

void keeper_note(struct keeper *keeper, const struct th_cause *cause)
{
	keeper_note_by(keeper, cause, "keeper");
}

void keeper_record_release(struct keeper *keeper)
{
	while (keeper->recording.first) {
		struct record *first = keeper->recording.first;

		keeper->recording.first = first->next;
		free_record(first);
	}
}

bool keeper_record_waits(const struct keeper *keeper)
{
	return keeper->recording.first != NULL;
}
