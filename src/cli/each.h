/* Doing one thing to several containers: each gets its own line of result,
 * one failure does not stop the others, and the exit code tells. */
#ifndef CLI_EACH_H
#define CLI_EACH_H

#include "cli/doc.h"
#include "cli/verb.h"

/* Calls act for every container that the objects name, or with --all for all
 * that wanted accepts. act prints its own result and returns an exit code. */
int each_container(struct invocation *call,
	bool (*wanted)(const json_t *container),
	int (*act)(struct invocation *call, const json_t *container));

/* Replaces the names of groups among the call's objects by their containers. */
int expand_groups(struct invocation *call, struct th_error *err);

/* The containers that the objects name (those of a group, too), or with --all
 * those that wanted accepts, as a list. What is not found is told, and its exit
 * code returned: the rest is there all the same. */
int find_containers(struct invocation *call,
	bool (*wanted)(const json_t *container), json_t **list);
/* The IDs of such a list, as a new one. */
json_t *ids_of(const json_t *list);

/* An option that is a duration of up to a day; span_ms stays what it is where
 * it is not given. */
int read_span(const struct invocation *call, const char *option, int *span_ms,
	struct th_error *err);
/* The option --grace in milliseconds; -1 where it is not given. */
int read_grace(struct invocation *call, int *grace_ms, struct th_error *err);
/* A point in time, or a span back from now; time_us stays what it is where text
 * is NULL. */
int read_time(const char *text, int64_t *time_us, struct th_error *err);

#endif
