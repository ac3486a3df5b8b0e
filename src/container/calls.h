/* Every system call of the kernel, in groups by purpose, with the answer that
 * a container gets by default. The filter (container/filter_rules.h), the
 * table in docs/safety.md and the tests are all made from this one list. */
#ifndef TH_CONTAINER_CALLS_H
#define TH_CONTAINER_CALLS_H

#include <stddef.h>
#include <stdint.h>

/* ENOSYS says that the kernel lacks a call, and makes libraries take another
 * way; EPERM says that the call needs a privilege. A program that gets the
 * wrong one of the two gives up where it could have gone on. */
enum th_call_answer {
	TH_CALLS_ALLOWED,
	TH_CALLS_EXAMINED, /* allowed with some arguments (filter_rules.c) */
	TH_CALLS_GRANTED, /* by a capability; EPERM without it */
	TH_CALLS_REFUSED, /* EPERM, whatever the capabilities are */
	TH_CALLS_ABSENT /* ENOSYS, like a kernel that does not have them */
};

struct th_call_group {
	const char *purpose;
	enum th_call_answer answer;
	const char *capability; /* of TH_CALLS_GRANTED, "CAP_..."; or NULL */
	const char *reason;
	const char *calls; /* names separated by blanks */
};

/* The groups. A call is in exactly one of them; a call that is in none (one
 * that is newer than this list) gets ENOSYS. */
extern const struct th_call_group th_call_groups[];
extern const size_t th_call_group_count;

/* Steps through the names of a group: copies the next one into name and moves
 * *at past it. False at the end. Start with *at = group->calls. */
#define TH_CALL_NAME 32
_Bool th_call_next(const char **at, char name[TH_CALL_NAME]);

#endif
