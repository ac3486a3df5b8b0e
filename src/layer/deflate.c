#include "layer/deflate.h"

#include <isa-l.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>
#include <zstd.h>

/* The levels of isa-l that give the same bytes on every processor: its third
 * one does not (compared on three generations of them). */
#define FAST_LEVELS 2

struct th_deflate {
	enum th_compression compression;
	int level;
	struct isal_zstream fast;
	uint8_t *fast_room;
	z_stream slow;
	ZSTD_CCtx *zstd;
};

int th_compression_parse(const char *text, enum th_compression *compression,
	int *level, struct th_error *err)
{
	static const struct {
		const char *word;
		enum th_compression compression;
		int usual, least, most;
	} kinds[] = {{"gzip", TH_GZIP, TH_GZIP_LEVEL, 0, 9},
		{"zstd", TH_ZSTD, TH_ZSTD_LEVEL, 1, 19},
		{"none", TH_PLAIN, 0, 0, 0}};
	size_t len = strcspn(text, ",");

	for (size_t i = 0; i < sizeof(kinds) / sizeof(*kinds); i++) {
		int number = kinds[i].usual, used = 0;

		if (strlen(kinds[i].word) != len ||
			strncmp(text, kinds[i].word, len) != 0)
			continue;
		if (text[len] &&
			(sscanf(text + len, ",level=%2d%n", &number, &used) !=
					1 ||
				text[len + (size_t)used]))
			break;
		if (number < kinds[i].least || number > kinds[i].most) {
			th_fail(err, TH_USAGE,
				"%d is not a level of %s compression", number,
				kinds[i].word);
			return th_hint(err, "use %d to %d", kinds[i].least,
				kinds[i].most);
		}
		*compression = kinds[i].compression;
		*level = number;
		return 0;
	}
	th_fail(err, TH_USAGE, "\"%.60s\" is not a compression", text);
	return th_hint(err, "use gzip, zstd or none; gzip,level=6 for a level");
}

static int begin(struct th_deflate *deflate)
{
	static const uint32_t rooms[] = {ISAL_DEF_LVL0_DEFAULT,
		ISAL_DEF_LVL1_DEFAULT, ISAL_DEF_LVL2_DEFAULT};

	if (deflate->compression == TH_ZSTD) {
		deflate->zstd = ZSTD_createCCtx();
		return deflate->zstd ? 0 : -1;
	}
	if (deflate->level > FAST_LEVELS)
		return deflateInit2(&deflate->slow, deflate->level, Z_DEFLATED,
			       -15, 9, Z_DEFAULT_STRATEGY) == Z_OK
			? 0
			: -1;
	deflate->fast_room = malloc(rooms[deflate->level] + 1);
	return deflate->fast_room ? 0 : -1;
}

struct th_deflate *th_deflate_new(enum th_compression compression, int level)
{
	struct th_deflate *deflate = calloc(1, sizeof(*deflate));

	if (!deflate)
		return NULL;
	deflate->compression = compression;
	deflate->level = level;
	if (begin(deflate) == 0)
		return deflate;
	free(deflate);
	return NULL;
}

void th_deflate_free(struct th_deflate *deflate)
{
	if (!deflate)
		return;
	if (deflate->compression == TH_GZIP && deflate->level > FAST_LEVELS)
		deflateEnd(&deflate->slow);
	ZSTD_freeCCtx(deflate->zstd);
	free(deflate->fast_room);
	free(deflate);
}

/* Stored blocks of at most 65,535 bytes have five more each. */
size_t th_deflate_bound(enum th_compression compression, size_t len)
{
	return compression == TH_ZSTD ? ZSTD_compressBound(len)
				      : len + len / 512 + 1024;
}

/* Ends at a byte, and refers to nothing before it. */
static size_t fast_piece(struct th_deflate *deflate, const void *data,
	size_t len, void *to, size_t room)
{
	static const uint32_t rooms[] = {ISAL_DEF_LVL0_DEFAULT,
		ISAL_DEF_LVL1_DEFAULT, ISAL_DEF_LVL2_DEFAULT};
	struct isal_zstream *stream = &deflate->fast;

	isal_deflate_stateless_init(stream);
	stream->level = (uint32_t)deflate->level;
	stream->level_buf = deflate->fast_room;
	stream->level_buf_size = rooms[deflate->level];
	stream->flush = FULL_FLUSH;
	stream->next_in = (uint8_t *)(uintptr_t)data;
	stream->avail_in = (uint32_t)len;
	stream->next_out = to;
	stream->avail_out = (uint32_t)room;
	return isal_deflate_stateless(stream) == COMP_OK && !stream->avail_in
		? stream->total_out
		: 0;
}

static size_t slow_piece(struct th_deflate *own, const void *data, size_t len,
	void *to, size_t room)
{
	z_stream *stream = &own->slow;

	if (deflateReset(stream) != Z_OK)
		return 0;
	stream->next_in = (Bytef *)(uintptr_t)data;
	stream->avail_in = (uInt)len;
	stream->next_out = to;
	stream->avail_out = (uInt)room;
	return deflate(stream, Z_FULL_FLUSH) == Z_OK && !stream->avail_in &&
			stream->avail_out
		? stream->total_out
		: 0;
}

size_t th_deflate_piece(struct th_deflate *deflate, const void *data,
	size_t len, void *to, size_t room)
{
	size_t made;

	if (deflate->compression == TH_GZIP)
		return deflate->level > FAST_LEVELS
			? slow_piece(deflate, data, len, to, room)
			: fast_piece(deflate, data, len, to, room);
	made = ZSTD_compressCCtx(
		deflate->zstd, to, room, data, len, deflate->level);
	return ZSTD_isError(made) ? 0 : made;
}

size_t th_deflate_head(
	enum th_compression compression, unsigned char head[TH_DEFLATE_FRAME])
{
	/* No name, no time, no system. */
	static const unsigned char gzip[] = {
		0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255};

	if (compression != TH_GZIP)
		return 0;
	memcpy(head, gzip, sizeof(gzip));
	return sizeof(gzip);
}

static void put_number(unsigned char *to, uint32_t value)
{
	for (int i = 0; i < 4; i++)
		to[i] = (unsigned char)(value >> (8 * i));
}

size_t th_deflate_tail(enum th_compression compression, uint32_t crc,
	uint64_t len, unsigned char tail[TH_DEFLATE_FRAME])
{
	if (compression != TH_GZIP)
		return 0;
	/* A last block with nothing in it (RFC 1951, 3.2.6). */
	tail[0] = 3;
	tail[1] = 0;
	put_number(tail + 2, crc);
	put_number(tail + 6, (uint32_t)len);
	return 10;
}

uint32_t th_deflate_crc(uint32_t crc, const void *data, size_t len)
{
	return crc32_gzip_refl(crc, data, len);
}
