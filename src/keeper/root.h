/* The root file system of a container. */
#ifndef TH_KEEPER_ROOT_H
#define TH_KEEPER_ROOT_H

#include "keeper/plan.h"
#include "store/store.h"

/* The overlay of the image's trees with the container's own upper folder, as a
 * mount that is attached to nothing. discard: what is written need not last. To
 * be called with the container's lock held: two mounts of one upper folder
 * would spoil it. */
int th_plan_open_root(const struct th_plan *plan, const struct th_store *store,
	const char *id, bool discard, int *mount_fd, struct th_error *err);

#endif
