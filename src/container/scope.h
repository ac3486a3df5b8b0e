/* A part of the control groups that systemd gives to this user. */
#ifndef TH_CONTAINER_SCOPE_H
#define TH_CONTAINER_SCOPE_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/error.h"

/* True where this process may not make control groups, and the user's systemd
 * can be asked over D-Bus for some. user_bus: there is a bus of the user's. */
bool th_scope_wanted(bool user_bus);

/* Asks for a transient scope for the container, delegated to this user, and
 * waits until this process is in it: a keeper that is started next is in it
 * from its birth, and outlives the login. 0, or -1 where systemd refuses. */
int th_scope_enter(const char *id, const char *name, struct th_error *err);
/* Moves another process of this user into a scope of its own. */
int th_scope_move(pid_t pid, const char *id, const char *description,
	struct th_error *err);

#endif
