/* Compression of layers piece by piece, so that several cores can do it at the
 * same time. What comes out depends on the data, the kind and the level alone:
 * neither on the processor nor on how many there are. */
#ifndef TH_LAYER_DEFLATE_H
#define TH_LAYER_DEFLATE_H

#include <stddef.h>
#include <stdint.h>

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
 * that fails. Pieces may be joined in their order. */
size_t th_deflate_piece(struct th_deflate *deflate, const void *data,
	size_t len, void *to, size_t room);

/* What stands before all pieces and behind them; the lengths of both. crc is
 * the CRC-32 of all data, and len its length. */
#define TH_DEFLATE_FRAME 16
size_t th_deflate_head(
	enum th_compression compression, unsigned char head[TH_DEFLATE_FRAME]);
size_t th_deflate_tail(enum th_compression compression, uint32_t crc,
	uint64_t len, unsigned char tail[TH_DEFLATE_FRAME]);
uint32_t th_deflate_crc(uint32_t crc, const void *data, size_t len);

#endif
