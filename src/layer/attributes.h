/* Attributes of files in layers' trees. */
#ifndef TH_LAYER_ATTRIBUTES_H
#define TH_LAYER_ATTRIBUTES_H

#include <stdbool.h>
#include <sys/stat.h>

#include "base/error.h"

/* What marks an overlay's folder as hiding those below it: for root, and for
 * overlays in user namespaces. */
#define TH_OPAQUE "trusted.overlay.opaque"
#define TH_OPAQUE_OF_USERS "user.overlay.opaque"

/* Whether layers have such an extended attribute. The host's labels do not come
 * from an image, and nothing that an archive says may steer the overlay. */
bool th_layer_wants_attribute(const char *name);

/* Copies owner, mode, extended attributes and times (as of st) from one file or
 * folder to another, both open (O_PATH will do). -1 with errno. */
int th_layer_copy_attributes(int from, const struct stat *st, int to);

/* Copies a file, a link or a node with its attributes, to a name that must be
 * free in the folder; holes stay holes. from: O_PATH. -1 with errno. */
int th_layer_copy_file(
	int from, const struct stat *st, int folder, const char *name);

/* True where an owner does not exist in this user namespace: the file stays
 * root's. */
bool th_layer_is_unmapped(int sys);

#endif
