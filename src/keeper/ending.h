/* The end of a run: what is found, recorded and told; and of the last one. */
#ifndef TH_KEEPER_ENDING_H
#define TH_KEEPER_ENDING_H

#include <stdbool.h>
#include <stdint.h>

#include "container/outcome.h"
#include "ipc/words.h"

struct client;
struct keeper;
struct th_message;

struct last_run {
	int64_t run_us; /* when this run began, as the state has it */
	int status; /* of its process, as waitpid(2) has it */
	int64_t ended_ms;
	struct th_ending ending; /* told to whoever waits */
	/* While its group is closed: */
	struct th_ending found;
	bool is_start; /* it was no run, but a start that failed: */
	bool held_up; /* by others, for the moment */
	struct th_cause cause;
	struct th_error *why; /* owned; NULL: no memory was left for it */
	int fd; /* container/outcome.h */
	struct th_end end; /* as the file has it */
	bool written; /* to the file */
	int64_t keep_until_ms; /* where the file has it, and the state not */
	bool discarding; /* nothing is kept: the folder is to be removed */
	int code; /* as a shell has it */
};

/* Its streams are at their end. */
void keeper_end_run(struct keeper *keeper);
/* Its group is gone, too: what comes is another run, or none. */
void keeper_conclude_run(struct keeper *keeper);
/* The end of the wait; holds: by a person's stop. */
void keeper_end_wait(struct keeper *keeper, enum th_cause_kind cause,
	const char *actor, bool holds);
/* A try that failed while the container waited; whoever waits for the start
 * hears of it. Where others hold it up, it is tried again soon. */
void keeper_fail_run(
	struct keeper *keeper, const struct th_error *why, bool held_up);
/* Overlay, users and networks of a run; more than once is as good as once. */
void keeper_release_run(struct keeper *keeper);
/* What the last run leaves to be given back. */
void keeper_leave(struct keeper *keeper);
/* Undoes a start that failed, and records why. */
void keeper_abort(struct keeper *keeper, const struct th_error *why);

/* keep.c: until the state, or at least the file, has the end. */
void keeper_keep(struct keeper *keeper);
void keeper_handle_kept(
	struct client *client, const struct th_message *message);
/* Tells a database that was made anew what it has to know. */
void keeper_take_up(struct client *client);
/* What is true of the container, whatever the state says. */
void keeper_tell_state(struct client *client);

#endif
