/* A run in the foreground owns its container: nobody else removes it while the
 * run lives, or its guard does. For the runtime module only.
 *
 *   DIR/ID/run   the run's token; locked (shared) by the run, and by its guard
 *                once that has taken over
 *   DIR/.ID.TOKEN   the folder before it gets its name */
#ifndef TH_RUNTIME_OWNER_H
#define TH_RUNTIME_OWNER_H

#include <stdbool.h>

#include "base/error.h"

#define OWNER_TOKEN 40

/* One that no other run has had on this host. */
void owner_token(char token[OWNER_TOKEN]);
/* Makes the folder of the container with the run's file in it. 1, and the lock
 * in *lock; 0 where the ID is taken; -1. */
int owner_make_folder(const char *dir, const char *id, const char *token,
	int *lock, struct th_error *err);
/* Removes a container's folder, whoever's it is. A run's loses its name first,
 * so that no part of one is taken for somebody's. */
int owner_remove_folder(const char *dir, const char *id, struct th_error *err);
/* Removes what of these is left where it was killed. */
void owner_sweep(const char *dir, const char *id, const char *token);
/* For the guard: locks the container, if it is that run's. */
bool owner_take_over(
	const char *dir, const char *id, const char *token, int *lock);
/* Locks the container of a run that has died with its guard; until the lock is
 * closed nobody else does. False where it is no such. */
bool owner_is_lost(const char *dir, const char *id, int *lock);

#endif
