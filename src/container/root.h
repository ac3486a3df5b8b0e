/* The root of a container: the layers of its image and its own one above. */
#ifndef TH_CONTAINER_ROOT_H
#define TH_CONTAINER_ROOT_H

#include "container/plan.h"
#include "sandbox/overlay.h"
#include "store/store.h"

/* The folders of the overlay, by their paths. */
struct th_root_layers {
	struct th_overlay overlay;
	struct th_strings lowers;
	char *upper, *work;
};

/* Below the store's folder, or relative to it where root is "". discard: what
 * is written need not outlive the mount. Released also after a failure. */
int th_plan_layers(const struct th_plan *plan, const char *root, const char *id,
	bool discard, struct th_root_layers *layers, struct th_error *err);
void th_root_layers_release(struct th_root_layers *layers);

/* Mounts it: a detached mount. */
int th_plan_open_root(const struct th_plan *plan, const struct th_store *store,
	const char *id, bool discard, int *mount_fd, struct th_error *err);

#endif
