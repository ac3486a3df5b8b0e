/* Writes a layer's archive as a tree of files, with the whiteouts of the OCI
 * Image Specification (layer.md) turned into those of overlay file systems. */
#ifndef TH_LAYER_APPLY_H
#define TH_LAYER_APPLY_H

#include <stdint.h>

#include "base/source.h"

/* Reads the tar archive from the source to its end and writes it below the
 * folder tree_fd, which must be empty. Nothing outside the folder is touched,
 * whatever the archive says: an entry that tries is refused by name. disk_bytes
 * receives what the tree takes on the disk, about. The umask is changed and put
 * back: a thread that shares it with others (no unshare(2) with CLONE_FS) must
 * not make files in them meanwhile. */
int th_layer_apply(struct th_source *source, int tree_fd, uint64_t *disk_bytes,
	struct th_error *err);

#endif
