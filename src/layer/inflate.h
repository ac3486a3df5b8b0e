/* Decompression of layers: gzip (RFC 1952, several members too), zstd
 * (RFC 8878), or none. */
#ifndef TH_LAYER_INFLATE_H
#define TH_LAYER_INFLATE_H

#include "base/source.h"
#include "oci/manifest.h"

struct th_inflate;

/* Reads from (borrowed) and gives what it decompresses to. */
struct th_inflate *th_inflate_new(
	enum th_compression compression, struct th_source *from);
struct th_source *th_inflate_source(struct th_inflate *inflate);
void th_inflate_free(struct th_inflate *inflate);

#endif
