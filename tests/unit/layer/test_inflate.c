#include "layer/inflate.h"

#include <stdlib.h>
#include <string.h>
#include <zlib.h>
#include <zstd.h>

#include "lib/tar.h"
#include "unit/unit.h"

#define PLAIN_BYTES 700000

static char *plain;
static unsigned char packed[PLAIN_BYTES * 2];
static size_t packed_len;

static void make_plain(void)
{
	plain = malloc(PLAIN_BYTES);
	for (size_t i = 0; i < PLAIN_BYTES; i++)
		plain[i] = (char)(i * i / 7 + i % 251);
}

static void add_gzip(const char *data, size_t len)
{
	z_stream stream = {0};

	deflateInit2(&stream, 6, Z_DEFLATED, 15 + 16, 8, 0);
	stream.next_in = (unsigned char *)(uintptr_t)data;
	stream.avail_in = (unsigned int)len;
	stream.next_out = packed + packed_len;
	stream.avail_out = (unsigned int)(sizeof(packed) - packed_len);
	deflate(&stream, Z_FINISH);
	packed_len += stream.total_out;
	deflateEnd(&stream);
}

/* Unpacks what is packed; the bytes that came out, or -1. */
static long unpack(enum th_compression compression, size_t len, size_t piece,
	struct th_error *err)
{
	struct tar_source from;
	struct th_inflate *inflate;
	struct th_source *source;
	const void *data;
	long total = 0;
	ssize_t got;

	tar_source_init(&from, (const char *)packed, len, piece);
	inflate = th_inflate_new(compression, &from.source);
	source = th_inflate_source(inflate);
	while ((got = source->next(source, &data, err)) > 0) {
		CHECK(memcmp(data, plain + total, (size_t)got) == 0);
		total += got;
	}
	th_inflate_free(inflate);
	return got < 0 ? -1 : total;
}

static void gzip_in_pieces_of_any_size(void)
{
	static const size_t pieces[] = {1, 7, 1000, 65536, PLAIN_BYTES};

	make_plain();
	packed_len = 0;
	add_gzip(plain, PLAIN_BYTES);
	for (size_t i = 0; i < COUNT_OF(pieces); i++)
		CHECK_INT(unpack(TH_GZIP, packed_len, pieces[i], NULL),
			PLAIN_BYTES);
	free(plain);
}

static void gzip_of_several_members(void)
{
	make_plain();
	packed_len = 0;
	add_gzip(plain, 1000);
	add_gzip(plain + 1000, 0);
	add_gzip(plain + 1000, PLAIN_BYTES - 1000);
	CHECK_INT(unpack(TH_GZIP, packed_len, 333, NULL), PLAIN_BYTES);
	free(plain);
}

static void zeros_behind_the_last_member_pass(void)
{
	make_plain();
	packed_len = 0;
	add_gzip(plain, PLAIN_BYTES);
	memset(packed + packed_len, 0, 5000);
	CHECK_INT(unpack(TH_GZIP, packed_len + 5000, 1000, NULL), PLAIN_BYTES);
	/* Anything else is damage; and so are zeros alone. */
	packed[packed_len + 4000] = 'x';
	CHECK_INT(unpack(TH_GZIP, packed_len + 5000, 1000, NULL), -1);
	memset(packed, 0, 5000);
	CHECK_INT(unpack(TH_GZIP, 5000, 1000, NULL), -1);
	free(plain);
}

static void zstd_and_plain(void)
{
	make_plain();
	packed_len =
		ZSTD_compress(packed, sizeof(packed), plain, PLAIN_BYTES, 3);
	CHECK_INT(unpack(TH_ZSTD, packed_len, 333, NULL), PLAIN_BYTES);
	memcpy(packed, plain, PLAIN_BYTES);
	CHECK_INT(unpack(TH_PLAIN, PLAIN_BYTES, 333, NULL), PLAIN_BYTES);
	free(plain);
}

static void what_is_cut_off_or_damaged_is_an_error(void)
{
	struct th_error err = {0};

	make_plain();
	packed_len = 0;
	add_gzip(plain, PLAIN_BYTES);
	CHECK_INT(unpack(TH_GZIP, packed_len - 1, 1000, &err), -1);
	CHECK(strstr(err.msg, "gzip data is damaged or cut off") != NULL);
	th_error_clear(&err);
	/* The checksum at the end. */
	packed[packed_len - 6] ^= 1;
	CHECK_INT(unpack(TH_GZIP, packed_len, 1000, &err), -1);
	CHECK_INT(unpack(TH_ZSTD, packed_len, 1000, NULL), -1);
	packed_len =
		ZSTD_compress(packed, sizeof(packed), plain, PLAIN_BYTES, 3);
	CHECK_INT(unpack(TH_ZSTD, packed_len - 1, 1000, NULL), -1);
	free(plain);
}

static const CU_TestInfo tests[] = {
	{"gzip in pieces of any size", gzip_in_pieces_of_any_size},
	{"gzip of several members", gzip_of_several_members},
	{"zeros behind the last member pass",
		zeros_behind_the_last_member_pass},
	{"zstd and plain", zstd_and_plain},
	{"what is cut off or damaged", what_is_cut_off_or_damaged_is_an_error},
	CU_TEST_INFO_NULL};

const struct suite suite_inflate = {"inflate", tests};
