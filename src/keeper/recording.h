/* What the state is to know, as it can take it. */
#ifndef TH_KEEPER_RECORDING_H
#define TH_KEEPER_RECORDING_H

#include <stdbool.h>
#include <stdint.h>

#include "store/container_state.h"

struct keeper;
struct record;

/* Steps that the state has not got yet, the first one first. */
struct recording {
	struct record *first, **end;
	int count;
	int64_t due_ms; /* when they are tried again */
	int64_t lost; /* as there were too many */
};

/* From now on the database and locks are waited for a moment only. */
void keeper_record_init(struct keeper *keeper);
/* True where the state lacks something. */
bool keeper_record_waits(const struct keeper *keeper);
/* A step to another state; its texts are copied. Nothing is lost where the
 * state cannot take it now. */
void keeper_record_change(
	struct keeper *keeper, const struct th_change *change);
/* The end of one that is not kept: its row goes. */
void keeper_record_discard(
	struct keeper *keeper, const struct th_change *change);
/* A session; the row is taken over. */
void keeper_record_joined(struct keeper *keeper, struct th_session_row *row);
/* The end of a session. */
void keeper_record_session(
	struct keeper *keeper, const char *session, int code);
/* Tries what waits; and when (of the clock that never jumps; 0: never). */
void keeper_record_work(struct keeper *keeper);
int64_t keeper_record_due(const struct keeper *keeper);
void keeper_record_release(struct keeper *keeper);
/* Records what is no step to another state. */
void keeper_note(struct keeper *keeper, const struct th_cause *cause);
void keeper_note_by(
	struct keeper *keeper, const struct th_cause *cause, const char *actor);
/* The same; health is what it is from now on. */
void keeper_note_health(struct keeper *keeper, const struct th_cause *cause,
	const char *health);

#endif
