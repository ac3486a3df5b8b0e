/* Containers: making, running and removing them. */
#ifndef TIDYHULL_CONTAINER_H
#define TIDYHULL_CONTAINER_H

#include <stdbool.h>
#include <stddef.h>

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* {"containers": [...]}, the running ones or all, as "list --json". */
int th_containers(th_hull *hull, bool all, char **json, th_error *error);
/* One, with its settings, as "show --json"; values of secret settings only
 * where reveal says so. */
int th_container(th_hull *hull, const char *name, bool reveal, char **json,
	th_error *error);

/* Makes one of settings: an object with "image" and the options of "create" by
 * their names: texts, lists of texts where an option can be repeated, true for
 * one without a value; "command" is a list. The image is pulled where it is
 * missing ("fetch" says otherwise). All that is wrong is told at once. json
 * gets the container, and may be NULL. */
int th_container_make(
	th_hull *hull, const char *settings, char **json, th_error *error);
/* In the background; the error has a code of its own where the program is
 * missing or cannot be executed. */
int th_container_begin(th_hull *hull, const char *name, th_error *error);
/* Its stop signal, and after grace_ms (-1: its own) the hard kill; returns when
 * it has ended. json gets how, as "outcome" of a container; it may be NULL. */
int th_container_end(th_hull *hull, const char *name, int grace_ms, char **json,
	th_error *error);
/* signal: "TERM", "SIGTERM" or a number. */
int th_container_kill(
	th_hull *hull, const char *name, const char *signal, th_error *error);
/* Returns when it runs again. */
int th_container_again(
	th_hull *hull, const char *name, int grace_ms, th_error *error);
int th_container_freeze(th_hull *hull, const char *name, th_error *error);
int th_container_thaw(th_hull *hull, const char *name, th_error *error);
/* Waits until it has ended for good, or until its probe succeeds; for ever with
 * timeout_ms -1. 1 where the time is over, which is no error. */
int th_container_await(th_hull *hull, const char *name, bool ready,
	int timeout_ms, th_error *error);
/* Another command in a running one, with three descriptors as its streams
 * (borrowed), to its end. command is an object: "command" (a list), and where
 * wanted "env" (a list), "user", "workdir". code gets its exit code, 128 + n
 * for signal n. */
int th_container_run(th_hull *hull, const char *name, const char *command,
	const int streams[3], int *code, th_error *error);
int th_container_name(
	th_hull *hull, const char *name, const char *new_name, th_error *error);
/* Other limits, "restart" or "probe" while it runs: an object with these, as
 * for "adjust". */
int th_container_change(
	th_hull *hull, const char *name, const char *changes, th_error *error);
/* force: one that runs is stopped first. */
int th_container_delete(
	th_hull *hull, const char *name, bool force, th_error *error);

/* ---- what is to be seen of it ---- */

/* Why it is in the state that it is in, as "why --json" has it. */
int th_container_reason(
	th_hull *hull, const char *name, char **json, th_error *error);
/* {"events": [...], "last": n}: its history, or that of all (name NULL), behind
 * the event of the number after (0: from the beginning); oldest first. To
 * follow it, ask again with what "last" says. */
int th_container_events(th_hull *hull, const char *name, int64_t after,
	char **json, th_error *error);
/* Calls take for each entry of its log, oldest first: only the last so many
 * where last is not negative. take returns false to end it; its text is valid
 * while it runs, and not ended by a NUL. */
int th_container_log(th_hull *hull, const char *name, long last,
	bool (*take)(void *owner, int64_t time_us, bool is_error,
		const char *text, size_t bytes),
	void *owner, th_error *error);
/* What it uses just now, as "meter --json"; "cpu-percent" is null: ask twice
 * and compare "cpu-us". */
int th_container_usage(
	th_hull *hull, const char *name, char **json, th_error *error);
/* {"processes": [...]}, as "processes --json". */
int th_container_inside(
	th_hull *hull, const char *name, char **json, th_error *error);
/* Its commands beside the program: {"sessions": [...]}. */
int th_container_sessions(
	th_hull *hull, const char *name, char **json, th_error *error);

/* ---- files ---- */

/* A path of it as a tar archive (pax) on a descriptor; and an archive into a
 * folder of it. The container need not run. */
int th_container_save(th_hull *hull, const char *name, const char *path,
	int descriptor, th_error *error);
int th_container_load(th_hull *hull, const char *name, const char *path,
	int descriptor, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
