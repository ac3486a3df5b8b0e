/* Writes a layer's archive as a tree of files, with the whiteouts of the OCI
 * Image Specification (layer.md) turned into those of overlay file systems. */
#ifndef TH_LAYER_APPLY_H
#define TH_LAYER_APPLY_H

#include <stdint.h>

#include "base/source.h"
#include "layer/notes.h"
#include "layer/view.h"

/* Reads the tar archive from the source to its end and writes it below the
 * folder tree_fd, which must be empty. Nothing outside the folder is touched,
 * whatever the archive says: an entry that tries is refused by name. notes
 * receives what the outcome owes to lower layers, to be released also after a
 * failure; disk_bytes what the tree takes on the disk, about. The umask is
 * changed and put back: a thread that shares it with others (no unshare(2) with
 * CLONE_FS) must not make files in them meanwhile. */
int th_layer_apply(struct th_source *source, int tree_fd,
	struct th_layer_notes *notes, uint64_t *disk_bytes,
	struct th_error *err);

/* The same where the lower layers are there: first its whiteouts, which are
 * about these only, then all else. Both read the archive from its beginning;
 * below shows what is beneath (not this tree). The notes have no implied
 * folders then, as all are like those below. */
int th_layer_apply_whiteouts(struct th_source *source, int tree_fd,
	struct th_view *below, struct th_layer_notes *notes,
	struct th_error *err);
int th_layer_apply_above(struct th_source *source, int tree_fd,
	struct th_view *below, struct th_layer_notes *notes,
	uint64_t *disk_bytes, struct th_error *err);

#endif
