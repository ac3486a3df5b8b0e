/* An unprivileged user's way to root's rights over what is his own: a user
 * namespace with the IDs that the administrator has given him. */
#ifndef TH_SANDBOX_ENTER_H
#define TH_SANDBOX_ENTER_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/error.h"

/* The IDs beside the user's own, from the files /etc/subuid and /etc/subgid. */
struct th_subordinate {
	uint64_t users, groups; /* how many; 0: none assigned */
	bool tools; /* newuidmap and newgidmap are there */
};

/* What the user has. */
void th_subordinate_find(
	const char *name, uid_t uid, struct th_subordinate *found);

/* Moves this process, which must have one thread, into a new user and mount
 * namespace, where it is root: 0 is the user, 1 and up his subordinate IDs.
 * *single: there are none, and 0 is all there is. TH_NOT_POSSIBLE where the
 * host does not let users do that. */
int th_user_enter(const char *name, uid_t uid, gid_t gid, bool *single,
	struct th_error *err);

/* Moves this process, which must have one thread, into a user namespace that
 * th_user_enter has made for another one, and into a new mount namespace. */
int th_user_join(int users, struct th_error *err);

#endif
