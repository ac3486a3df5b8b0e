/* The way to a keeper, also where somebody, or a cleaner of files, has removed
 * the lock or the socket that it is found by. */
#ifndef TH_CONTAINER_REACH_H
#define TH_CONTAINER_REACH_H

#include <stdbool.h>

#include "base/error.h"

/* Looks for the container's keeper among this user's processes: one that serves
 * this folder of sockets, or (-1) any. A pidfd, the caller's to close, or -1.
 */
int th_keeper_find(int run_fd, const char *id);

/* Whether a keeper lives: the lock says so, or the processes do. */
bool th_keeper_lives(int run_fd, const char *id);

/* Has a keeper that lives make anew what it is found by. 1 where it did, 0
 * where none lives, -1 where it does not answer in time. */
int th_keeper_recall(int run_fd, const char *id, struct th_error *err);

/* As th_channel_connect, and a keeper that cannot be found is recalled. */
int th_keeper_reach(
	int run_fd, const char *id, int *channel, struct th_error *err);

#endif
