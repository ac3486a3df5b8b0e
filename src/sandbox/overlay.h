/* Overlay mounts by the file-descriptor based mount calls: nothing of them is
 * ever seen in the host's mount table. */
#ifndef TH_SANDBOX_OVERLAY_H
#define TH_SANDBOX_OVERLAY_H

#include <stdbool.h>

#include "base/buffer.h"
#include "base/error.h"

struct th_overlay {
	const struct th_strings *lowers; /* folders, the topmost first */
	const char *upper; /* folders on one file system */
	const char *work;
	/* The upper folder is thrown away with the container: never wait for
	 * its write-back (the kernel's "volatile"). */
	bool discard;
	/* The caller has a mount namespace of its own, which the folders are
	 * in: it may be used for a moment. */
	bool here;
	/* In a user namespace: marks are attributes that users may set. */
	bool user_attributes;
};

/* Makes the mount and gives its descriptor, attached to nothing. Falls back
 * to the older call for the layers where the kernel has no "lowerdir+". */
int th_overlay_open(
	const struct th_overlay *overlay, int *mount_fd, struct th_error *err);
/* The same with paths relative to an open folder. */
int th_overlay_open_at(int folder, const struct th_overlay *overlay,
	int *mount_fd, struct th_error *err);

/* True where layers may lie on mounts with mapped IDs (since Linux 5.19). */
bool th_overlay_takes_mapped(void);

#endif
