/* The lock that a keeper holds on its container for as long as it lives.
 *
 * It is a record lock (fcntl(2)): it belongs to the process and not to the
 * descriptor, so a child cannot keep it alive, and readers can ask for it
 * without taking it. */
#ifndef TH_CONTAINER_LOCK_H
#define TH_CONTAINER_LOCK_H

#include <stdbool.h>

#include "base/error.h"

/* Takes the lock: 1 with the descriptor to keep open, 0 where another
 * process has it, -1. */
int th_lock_take(int run_fd, const char *id, int *fd, struct th_error *err);
/* The process that holds it: 1 and its PID, or 0. */
int th_lock_held(int run_fd, const char *id, int *pid);
/* Whether fd, a lock that was taken, is what others find under the name. */
bool th_lock_is_there(int run_fd, const char *id, int fd);
/* Waits until it can be taken; 0 where that takes longer than timeout_ms. */
int th_lock_wait(int run_fd, const char *id, int timeout_ms, int *fd,
	struct th_error *err);
/* Gives it up and removes its file; false where that stays. */
bool th_lock_drop(int run_fd, const char *id, int *fd);

#endif
