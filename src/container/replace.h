/* Making a container anew: another one, of other settings or another image,
 * takes its name, its volumes, its ports and its place.
 *
 *   made       the successor is made, under its ID; nothing else has changed
 *   stopped    the one before it is stopped; its ports are held here, so that
 *              whoever connects waits and is not refused
 *   swapped    the name and the volumes go over, in one transaction
 *   started    the successor runs, with those ports, and is ready if that was
 *              asked for
 *   removed    the one before it goes
 *
 * What fails is undone: the one before it has its name again, and runs if it
 * did. Where the command is killed, the next one that looks at containers ends
 * it in one of the two ways (th_replacements_settle).
 */
#ifndef TH_CONTAINER_REPLACE_H
#define TH_CONTAINER_REPLACE_H

#include "container/container.h"

/* Room for the last lines that a successor has written. */
#define TH_LAST_WORDS 600

struct th_replacing {
	struct th_settings *settings; /* without a name; the caller's */
	bool start; /* whether or not the one before it runs */
	/* Waits until it is ready: without a probe, that it does not end at
	 * once. */
	bool until_ready;
	int ready_ms; /* at most */
	int grace_ms; /* of the stop; -1: the container's own */
	char words[TH_LAST_WORDS]; /* of one that came to nothing */
	bool went_back; /* it did, and the one before it has its place again */
};

/* *row is the container that is there in the end. With problems, or -1 with
 * err, the one before it is there as it was (if err does not say otherwise). */
int th_container_replace(const struct th_context *context,
	const struct th_container_row *before, struct th_replacing *replacing,
	struct th_problems *problems, struct th_container_row *row,
	struct th_error *err);

/* The same in two parts, so that several are one act: the successor has its
 * place, and the one before it is kept for the case that it has to come back.
 * *way is to be ended by one of the other two; NULL where this fails. */
struct th_way;
int th_replacement_begin_way(const struct th_context *context,
	const struct th_container_row *before, struct th_replacing *replacing,
	struct th_problems *problems, struct th_container_row *row,
	struct th_way **way, struct th_error *err);
/* The one before it is removed. */
void th_replacement_commit(
	const struct th_context *context, struct th_way *way);
/* It has its place again. -1 where that failed. */
int th_replacement_revert(const struct th_context *context, struct th_way *way,
	struct th_error *err);

/* Ends what killed commands have begun. */
void th_replacements_settle(const struct th_context *context);

/* 1 where a living command makes the container anew (TH_IN_USE with err), 0,
 * -1. */
int th_replacement_check(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err);

/* What show hides of the container's settings, so that another one can be made
 * of them: the keys of such variables, and NAME=VALUE of secrets that are
 * files; appended. */
int th_container_hidden(const struct th_context *context,
	const struct th_container_row *row, struct th_strings *keys,
	struct th_strings *files, struct th_error *err);

#endif
