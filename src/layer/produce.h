/* Where a new layer's archive goes: it is hashed, compressed on all cores,
 * written and hashed again, and unpacked, all while it is made. */
#ifndef TH_LAYER_PRODUCE_H
#define TH_LAYER_PRODUCE_H

#include <stdint.h>

#include "base/cancel.h"
#include "base/sink.h"
#include "layer/deflate.h"
#include "layer/notes.h"
#include "oci/digest.h"

struct th_produce; /* opaque */

struct th_produce_options {
	enum th_compression compression;
	int level;
	int blob; /* receives the layer as it is stored; borrowed */
	/* An empty folder that it is unpacked into (layer/apply.h), or -1;
	 * borrowed. */
	int tree;
	/* Secrets, as NAME=VALUE, whose values must not be in it; short ones
	 * are not looked for. May be NULL. */
	const struct th_strings *never;
	struct th_cancel cancel;
};

struct th_produced {
	char diff_id[TH_DIGEST_TEXT]; /* of the archive */
	char blob[TH_DIGEST_TEXT]; /* of what was written */
	uint64_t plain_bytes, size_bytes; /* of the two */
	uint64_t tree_bytes; /* on the disk, about */
	struct th_layer_notes notes; /* of the tree; owned */
};

/* Begins; the threads that it starts take no signals. Memory: about 24 MiB. */
int th_produce_begin(const struct th_produce_options *options,
	struct th_produce **produce, struct th_error *err);
/* What takes the archive. */
struct th_sink *th_produce_sink(struct th_produce *produce);
/* Waits for all of it. produced is to be released, also after a failure. */
int th_produce_end(struct th_produce *produce, struct th_produced *produced,
	struct th_error *err);
/* Frees it, in any case; what is not ended is broken off. */
void th_produce_free(struct th_produce *produce);

/* Values that are shorter may be in any file by chance. */
#define TH_NEVER_LENGTH 6

#endif
