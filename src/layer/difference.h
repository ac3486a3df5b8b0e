/* What lies on top of layers, as the archive of a layer of its own (OCI Image
 * Specification, layer.md): an overlay's upper folder, or several unpacked
 * layers that become one. */
#ifndef TH_LAYER_DIFFERENCE_H
#define TH_LAYER_DIFFERENCE_H

#include "base/cancel.h"
#include "layer/tar_write.h"
#include "layer/view.h"

struct th_difference {
	const int *trees; /* the lowest first; folders, borrowed */
	size_t tree_count;
	struct th_view *below; /* what is beneath; borrowed */
	/* Places for mounts, absolute: empty ones that are not below were made
	 * for the mounts and are left out. May be NULL. */
	const struct th_strings *mounts;
	/* What was modified later counts as modified at that time; where
	 * seconds are negative, all times stay as they are. */
	struct timespec newest;
	struct th_cancel cancel;
	/* filled: */
	uint64_t entries;
	uint64_t sockets; /* were left out, as no archive can hold them */
};

/* Writes the entries, sorted, with whiteouts and opaque folders; of a folder
 * nothing where only its time has changed. Does not end the archive. */
int th_layer_difference(struct th_difference *difference,
	struct th_tar_out *out, struct th_error *err);

/* A hole of a layer's file counts where it is so large, and from and to such
 * places: so the same file gives the same archive on file systems with blocks
 * of other sizes. */
#define TH_LAYER_HOLE ((off_t)1 << 20)

/* Writes one entry's data from what is open for reading, with its holes of at
 * least hole bytes left out, after its header; entry gets the size. fd -1 where
 * it has none. path: for messages. What cannot be read, or not to the length
 * that the header has said, is an error. */
int th_layer_put_file(struct th_tar_out *out, struct th_tar_entry *entry,
	int fd, const char *path, off_t hole, struct th_cancel cancel,
	struct th_error *err);

/* Reads the extended attributes that layers have (layer/attributes.h) of what
 * is open, sorted by their names; storage holds them. */
int th_layer_read_attributes(int fd, struct th_tar_entry *entry,
	struct th_buf *storage, struct th_error *err);

#endif
