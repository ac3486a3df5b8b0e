/* The sources of a bundle's mounts. For the sandbox module only. */
#ifndef TH_SANDBOX_MOUNTS_H
#define TH_SANDBOX_MOUNTS_H

#include "oci/bundle.h"

/* Opens the sources of all binds as detached mounts, with their IDs mapped
 * where that is wanted: to the bundle's IDs by the user namespace id_namespace,
 * if it is not -1. *fds has a descriptor or -1 for each mount. */
int th_mounts_open(const struct th_bundle *bundle, const char *bundle_path,
	int id_namespace, int **fds, struct th_error *err);
void th_mounts_close(const struct th_bundle *bundle, int *fds);
/* True where only the parent has the privilege to open them. */
bool th_mounts_need_parent(const struct th_bundle *bundle);

/* Appends all words that a mount's options may have, but for those that belong
 * to certain file systems. -1 without memory. */
int th_mount_options(struct th_strings *words);

#endif
