/* Doing one thing to several containers: each gets its own line of result,
 * one failure does not stop the others, and the exit code tells. */
#ifndef CLI_EACH_H
#define CLI_EACH_H

#include "cli/verb.h"

/* Calls act for every container that the objects name, or with --all for all
 * that wanted accepts. act prints its own result and returns an exit code. */
int each_container(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	int (*act)(struct invocation *call, struct th_container_row *row));

/* Replaces the names of groups among the call's objects by their containers. */
int expand_groups(struct invocation *call, struct th_error *err);

/* The containers that the objects name (those of a group, too), or with --all
 * those that wanted accepts; *rows is to be freed. What is not found is told,
 * and its exit code returned: the rest is there all the same. */
int find_containers(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	struct th_container_row **rows, size_t *count);

/* An option that is a duration of up to a day; span_ms stays what it is where
 * it is not given. */
int read_span(const struct invocation *call, const char *option, int *span_ms,
	struct th_error *err);
/* The option --grace in milliseconds; -1 where it is not given. */
int read_grace(struct invocation *call, int *grace_ms, struct th_error *err);

#endif
