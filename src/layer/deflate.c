#include "layer/deflate.h"

#include <libdeflate.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <zstd.h>

struct th_deflate {
	enum th_compression compression;
	int level;
	struct libdeflate_compressor *gzip;
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

/* For gzip libdeflate, which gives the same bytes on every processor. isa-l is
 * three times as fast, and does not: its plain C code finds other matches than
 * its assembly, and once in some hundred runs a small piece came out otherwise
 * on one and the same processor. */
struct th_deflate *th_deflate_new(enum th_compression compression, int level)
{
	struct th_deflate *deflate = calloc(1, sizeof(*deflate));

	if (!deflate)
		return NULL;
	deflate->compression = compression;
	deflate->level = level;
	if (compression == TH_ZSTD)
		deflate->zstd = ZSTD_createCCtx();
	else
		deflate->gzip = libdeflate_alloc_compressor(level);
	if (deflate->zstd || deflate->gzip)
		return deflate;
	free(deflate);
	return NULL;
}

void th_deflate_free(struct th_deflate *deflate)
{
	if (!deflate)
		return;
	libdeflate_free_compressor(deflate->gzip);
	ZSTD_freeCCtx(deflate->zstd);
	free(deflate);
}

size_t th_deflate_bound(enum th_compression compression, size_t len)
{
	return compression == TH_ZSTD
		? ZSTD_compressBound(len)
		: libdeflate_gzip_compress_bound(NULL, len);
}

size_t th_deflate_piece(struct th_deflate *deflate, const void *data,
	size_t len, void *to, size_t room)
{
	size_t made;

	if (deflate->compression == TH_GZIP)
		return libdeflate_gzip_compress(
			deflate->gzip, data, len, to, room);
	made = ZSTD_compressCCtx(
		deflate->zstd, to, room, data, len, deflate->level);
	return ZSTD_isError(made) ? 0 : made;
}
