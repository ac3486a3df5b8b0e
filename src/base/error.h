/* What went wrong, why, and what to do next: one value, handed down to the
 * caller that shows it. */
#ifndef TH_BASE_ERROR_H
#define TH_BASE_ERROR_H

#include <stdbool.h>
#include <stddef.h>

#include "tidyhull/error.h" /* enum th_code */

/* What of a start went wrong, where a later reader has to know. The numbers are
 * kept in the state: none is ever given another meaning. */
enum th_trouble {
	TH_TROUBLE_NONE,
	TH_TROUBLE_NO_PROGRAM, /* the container does not have it */
	TH_TROUBLE_ARCHITECTURE, /* it is one for another machine */
	TH_TROUBLE_INTERPRETER, /* what it names as its interpreter is missing
				 */
	TH_TROUBLE_NOT_EXECUTABLE,
	TH_TROUBLE_PORT, /* a published port is in use */
	TH_TROUBLE_MOUNT, /* a mount failed */
	TH_TROUBLE_COUNT
};

/* Fixed buffers, so that "no memory" can be reported without memory. */
struct th_error {
	enum th_code code;
	enum th_trouble trouble;
	int sys; /* errno as it was, or 0 */
	char msg[512]; /* lower case, complete enough to print alone */
	char hint[256]; /* what to do next; empty rather than vague */
};

/* Sets an error and returns -1. The first message wins: where err already
 * holds one, nothing is changed. err may be NULL. */
int th_fail(struct th_error *err, enum th_code code, const char *fmt, ...)
	__attribute__((format(printf, 3, 4)));

/* The same with the reason of the errno value sys put behind the message. */
int th_fail_sys(struct th_error *err, enum th_code code, int sys,
	const char *fmt, ...) __attribute__((format(printf, 4, 5)));

/* For what could not be written. Where room is missing, by a full disk or a
 * quota, sys is ENOSPC, and the hint says how to get some. */
int th_fail_write(struct th_error *err, int sys, const char *fmt, ...)
	__attribute__((format(printf, 3, 4)));

/* Adds the hint to an error that has none yet, and returns -1. One that is too
 * long is none. */
int th_hint(struct th_error *err, const char *fmt, ...)
	__attribute__((format(printf, 2, 3)));

/* Says what kind of trouble an error is, where nobody has yet; returns -1. */
int th_trouble(struct th_error *err, enum th_trouble trouble);

/* "not enough memory"; returns -1. */
int th_fail_memory(struct th_error *err);

/* True where somebody else holds what was wanted just now: it may be tried
 * again a moment later. */
bool th_error_busy(const struct th_error *err);

/* Several problems found in one look: they are reported together. */
struct th_problems {
	struct th_error *list; /* owned */
	size_t count;
};

/* Takes the error over into the list and empties it. Problems beyond the
 * memory that can be had are dropped, never the first one. */
void th_problems_add(struct th_problems *problems, struct th_error *err);
void th_problems_release(struct th_problems *problems);

#endif
