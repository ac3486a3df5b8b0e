/* Compression of layers piece by piece, so that several cores can do it at the
 * same time. What comes out depends on the data, the kind and the level alone:
 * neither on the processor nor on how many there are. */
#ifndef TH_LAYER_DEFLATE_H
#define TH_LAYER_DEFLATE_H

#include <stddef.h>

#include "base/error.h"
#include "oci/manifest.h"

/* Where nothing else is asked for. */
#define TH_GZIP_LEVEL 1
#define TH_ZSTD_LEVEL 3

struct th_deflate; /* opaque; for one thread */

/* Reads "gzip", "zstd" or "none", with ",level=N" behind it: 0 to 9 for gzip
 * (RFC 1952), 1 to 19 for zstd (RFC 8878). TH_USAGE where it is none of them.
 */
int th_compression_parse(const char *text, enum th_compression *compression,
	int *level, struct th_error *err);

/* NULL without memory; nothing is to be compressed with TH_PLAIN. */
struct th_deflate *th_deflate_new(enum th_compression compression, int level);
void th_deflate_free(struct th_deflate *deflate);

/* The room that the outcome of a piece may need. */
size_t th_deflate_bound(enum th_compression compression, size_t len);
/* Compresses a piece into to, which has that much room; the length, or 0 where
 * that fails. Pieces joined in their order are the whole: gzip members, or zstd
 * frames. */
size_t th_deflate_piece(struct th_deflate *deflate, const void *data,
	size_t len, void *to, size_t room);

#endif
