/* Work on a container's files in a child that can reach nothing else: hardly
 * any capabilities, no new privileges, no sockets, no programs, no new code,
 * and no files but those below the folders it is given (Landlock, where the
 * kernel has it). What a container arranges for it then hits a wall behind the
 * rules that all paths are resolved by. */
#ifndef TH_CONTAINER_APART_H
#define TH_CONTAINER_APART_H

#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "base/work.h"
#include "sandbox/wall.h"

struct th_apart {
	const struct th_wall_folder *folders;
	size_t count;
	int root; /* becomes the child's root folder; -1: it stays the host's */
	/* New files belong to this user and group of the host (0: the
	 * caller's), as one of a file system in a user namespace must. */
	uint32_t maker;
	int patience_ms; /* then the child is killed; 0: none is needed */
	struct th_work *work; /* what it does is told meanwhile; or NULL */
};

/* Runs the work in the child and returns what it returned, with its error; the
 * bytes that it put into reply are the caller's. The work is done on copies:
 * what it changes in memory otherwise is lost. */
int th_apart(const struct th_apart *how,
	int (*work)(void *arg, struct th_buf *reply, struct th_error *err),
	void *arg, struct th_buf *reply, struct th_error *err);

#endif
