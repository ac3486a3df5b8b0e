/* The operations of the OCI Runtime Specification (runtime.md) on a bundle:
 * containers without a keeper, whose state lies in a folder of its own.
 *
 *   DIR/ID/config.json   the bundle's, as it was at creation
 *   DIR/ID/state.json    who it is: {"version", "bundle", "pid", ...}
 *   DIR/ID/start.sock    the process waits here for its start; whoever can
 *                        connect knows that it is created and not running
 *   DIR/ID/lock          held by each operation
 *   DIR/ID/run           of a run in the foreground (owner.h)
 */
#ifndef TH_RUNTIME_RUNTIME_H
#define TH_RUNTIME_RUNTIME_H

#include <jansson.h>
#include <stdbool.h>

#include "base/error.h"

struct th_runtime_options {
	const char *dir; /* where the states lie; absolute */
	const char *id;
	const char *bundle; /* absolute */
	const char *pid_file; /* "" for none */
	const char *console_socket; /* "" for none */
	/* create_by: "" for the caller's streams, "none", or a file for what it
	 * writes. */
	const char *output;
	int *console; /* create: takes the terminal itself; NULL for none */
	/* create: the run that the container belongs to, and what gets its
	 * lock; NULL for none. */
	const char *run;
	int *run_lock;
	/* KEY=VALUE that the program gets beside those of config.json, ended by
	 * NULL; never by an argument, which everybody can see. */
	char *const *env;
	/* The caller is an unprivileged user, and this a namespace that was
	 * made for it: what config.json says of the host's IDs is the caller's
	 * view.
	 */
	bool entered;
};

enum th_runtime_status {
	TH_RUNTIME_CREATING,
	TH_RUNTIME_CREATED,
	TH_RUNTIME_RUNNING,
	TH_RUNTIME_STOPPED
};

/* Makes the container; its process waits for the start. To be called by a
 * small program of one thread, which may end then (the keeper's). TH_IN_USE
 * where the ID is taken. warning: what of config.json is not as it says. */
int th_runtime_create(const struct th_runtime_options *options,
	struct th_error *warning, struct th_error *err);
/* Starts the keeper's program to do it. */
int th_runtime_create_by(const char *keeper,
	const struct th_runtime_options *options, struct th_error *warning,
	struct th_error *err);

/* Creation, start, the wait for its end, and removal, with this process's
 * streams and terminal; signals are passed on. To be called by a small program
 * that does nothing else: where it is killed, so is the container, and what it
 * has left is removed. code gets its exit code, 128 + n for signal n. */
int th_runtime_run(const struct th_runtime_options *options, int *code,
	struct th_error *warning, struct th_error *err);
/* Becomes that program, the keeper's; log: "" or a file for errors and warnings
 * as lines of JSON. Returns only where that fails. */
int th_runtime_run_by(const char *keeper,
	const struct th_runtime_options *options, const char *log,
	struct th_error *err);
/* A line of JSON for the engine that called; log NULL or "": nothing. */
void th_runtime_log(
	const char *log, const char *level, const struct th_error *err);

/* Runs the program of a created container. A poststart hook that fails is a
 * warning only. */
int th_runtime_start(const char *dir, const char *id, struct th_error *warning,
	struct th_error *err);
/* The state as the specification writes it: JSON, to be freed. */
int th_runtime_state(
	const char *dir, const char *id, char **state, struct th_error *err);
/* Sends a signal to its first process, or to all. */
int th_runtime_kill(const char *dir, const char *id, int number, bool all,
	struct th_error *err);
/* Removes what creation made. One that is not stopped is refused (TH_IN_USE),
 * or killed first where force says so. */
int th_runtime_delete(const char *dir, const char *id, bool force,
	struct th_error *warning, struct th_error *err);

/* What this runtime can do, in the form of features.md; NULL without memory. */
json_t *th_runtime_features(void);

#endif
