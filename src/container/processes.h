/* What runs inside a container, as the host's /proc tells it. */
#ifndef TH_CONTAINER_PROCESSES_H
#define TH_CONTAINER_PROCESSES_H

#include "container/container.h"

struct th_process_row {
	int pid; /* as the host sees it */
	int inside_pid; /* as the container sees it */
	unsigned int uid; /* inside */
	char user[64]; /* its name there; the number where it has none */
	char state; /* as in proc(5): R, S, D, Z, T */
	uint64_t cpu_us; /* user and system time so far */
	uint64_t memory_bytes; /* resident */
	int64_t started_us;
	char command[256]; /* may be cut */
};

enum th_process_part {
	TH_PROCESS_ALL,
	TH_PROCESS_FIGURES /* pid, state, cpu_us and memory_bytes */
};

/* The processes of a running or paused container, the first one first, then by
 * their IDs inside; to be freed. One that ends meanwhile is left out. With
 * TH_PROCESS_FIGURES in no order, and without a look at the container's files:
 * who asks about hundreds of containers has no time for them. */
int th_container_processes(const struct th_context *context,
	const struct th_container_row *row, enum th_process_part part,
	struct th_process_row **rows, size_t *count, struct th_error *err);

#endif
