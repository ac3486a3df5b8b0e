/* One layer: downloaded or found, verified, unpacked, verified again, and
 * staged. */
#ifndef TH_IMAGE_FETCH_H
#define TH_IMAGE_FETCH_H

#include "image/origin.h"
#include "layer/view.h"
#include "oci/manifest.h"

enum th_layer_phase {
	TH_LAYER_WAITING,
	TH_LAYER_HERE, /* was in the store already */
	TH_LAYER_ELSEWHERE, /* another command brings it just now */
	TH_LAYER_TRANSFER, /* downloading, verifying and unpacking at once */
	TH_LAYER_UNPACK, /* all of it is here; unpacking */
	TH_LAYER_DONE,
	/* of a push: */
	TH_LAYER_THERE, /* the registry has it */
	TH_LAYER_MOUNTED, /* the registry took it from another repository */
	TH_LAYER_UPLOAD,
	TH_LAYER_SENT
};

struct th_layer_job {
	struct th_store *store;
	struct th_cancel cancel;
	const struct th_descriptor *blob;
	const char *diff_id;
	/* Called as the work goes on; both are set. */
	void (*phase)(void *owner, enum th_layer_phase phase);
	void (*progress)(void *owner, uint64_t have_bytes);
	void *owner;
	uint64_t tree_bytes; /* receives what the tree takes; 0: not known */
	/* Receives how many device nodes this user could not make, where it was
	 * unpacked. */
	size_t nodes_left;
};

/* Sees to it that blob and tree of the layer are staged or in an image. The
 * reader gives what is missing. Whatever fails leaves nothing half unpacked;
 * what was downloaded stays, unless it is wrong. */
int th_layer_fetch(struct th_layer_job *fetch, struct th_reader *reader,
	struct th_error *err);

/* Unpacks a layer that is here once more, into the empty folder tree, on top of
 * those that below shows (th_layer_apply_above). notes are to be released, also
 * after a failure. */
int th_layer_unpack_above(struct th_layer_job *fetch, struct th_view *below,
	int tree, struct th_layer_notes *notes, struct th_error *err);

#endif
