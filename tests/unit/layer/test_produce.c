#include "layer/produce.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "layer/inflate.h"
#include "lib/tar.h"
#include "unit/unit.h"

#define PLAIN_BYTES 5300123

static char *plain;

/* Some of it can be made smaller, and some cannot. */
static void make_plain(void)
{
	uint32_t value = 12345;

	plain = malloc(PLAIN_BYTES);
	for (size_t i = 0; i < PLAIN_BYTES; i++) {
		value = value * 1103515245 + 12345;
		plain[i] = (char)(i % 3000000 < 1500000 ? value >> 24
							: i / 100 % 200);
	}
}

static int open_blob(void)
{
	return openat(unit_folder_fd, "blob", O_RDWR | O_CREAT | O_TRUNC, 0600);
}

/* Puts the plain bytes in steps of that size. */
static int produce_all(struct th_produce_options *options, size_t step,
	struct th_produced *produced, struct th_error *err)
{
	struct th_produce *produce = NULL;
	int rc = th_produce_begin(options, &produce, err);

	memset(produced, 0, sizeof(*produced));
	for (size_t at = 0; rc == 0 && at < PLAIN_BYTES; at += step) {
		size_t len = PLAIN_BYTES - at < step ? PLAIN_BYTES - at : step;
		struct th_sink *sink = th_produce_sink(produce);

		rc = sink->put(sink, plain + at, len, err);
	}
	if (rc == 0)
		rc = th_produce_end(produce, produced, err);
	th_produce_free(produce);
	return rc;
}

/* What was written gives the same bytes, by our own reader. */
static void check_blob(int blob, enum th_compression compression,
	const struct th_produced *produced)
{
	char digest[TH_HASH_TEXT];
	struct th_error err = {0};
	struct th_inflate *inflate;
	struct th_source *source;
	struct tar_source from;
	struct th_buf body;
	const void *data;
	size_t total = 0;
	ssize_t got;

	th_buf_init(&body, 64 << 20);
	lseek(blob, 0, SEEK_SET);
	CHECK_INT(th_fd_read(blob, "blob", &body, &err), 1);
	CHECK_INT(body.len, produced->size_bytes);
	th_hash_once(body.data, body.len, digest);
	CHECK_TEXT(digest, produced->blob);
	th_hash_once(plain, PLAIN_BYTES, digest);
	CHECK_TEXT(digest, produced->diff_id);
	CHECK_INT(produced->plain_bytes, PLAIN_BYTES);
	tar_source_init(&from, body.data, body.len, 10000);
	inflate = th_inflate_new(compression, &from.source);
	source = th_inflate_source(inflate);
	while ((got = source->next(source, &data, &err)) > 0) {
		CHECK(total + (size_t)got <= PLAIN_BYTES &&
			memcmp(data, plain + total, (size_t)got) == 0);
		total += (size_t)got;
	}
	CHECK_INT(got, 0);
	CHECK_INT(total, PLAIN_BYTES);
	th_inflate_free(inflate);
	th_buf_release(&body);
}

static void every_kind_and_level_can_be_read(void)
{
	static const struct {
		enum th_compression compression;
		int level;
	} kinds[] = {{TH_PLAIN, 0}, {TH_GZIP, 0}, {TH_GZIP, 1}, {TH_GZIP, 2},
		{TH_GZIP, 3}, {TH_GZIP, 9}, {TH_ZSTD, 1}, {TH_ZSTD, 3},
		{TH_ZSTD, 12}};

	make_plain();
	for (size_t i = 0; i < COUNT_OF(kinds); i++) {
		struct th_produce_options options = {
			.compression = kinds[i].compression,
			.level = kinds[i].level,
			.tree = -1,
			.blob = open_blob()};
		struct th_produced produced, again;
		struct th_error err = {0};

		CHECK_INT(produce_all(&options, 4096, &produced, &err), 0);
		check_blob(options.blob, kinds[i].compression, &produced);
		/* The same, whatever the steps are. */
		CHECK_INT(ftruncate(options.blob, 0), 0);
		lseek(options.blob, 0, SEEK_SET);
		CHECK_INT(produce_all(&options, 777777, &again, &err), 0);
		CHECK_TEXT(again.blob, produced.blob);
		th_close(&options.blob);
	}
	free(plain);
}

static void a_full_disk_is_told(void)
{
	struct th_produce_options options = {.compression = TH_GZIP,
		.level = 1,
		.tree = -1,
		.blob = open("/dev/full", O_WRONLY)};
	struct th_produced produced;
	struct th_error err = {0};

	make_plain();
	CHECK_INT(produce_all(&options, 4096, &produced, &err), -1);
	CHECK(strstr(err.msg, "the disk is full") != NULL);
	th_close(&options.blob);
	free(plain);
}

/* Also one that lies across two pieces, and one in the last. */
static void a_secret_is_found(void)
{
	static const size_t places[] = {
		0, 70000, (1 << 20) - 5, (3 << 20) - 1, PLAIN_BYTES - 9};
	struct th_strings never = {0};

	th_strings_add(&never, "short=abc");
	th_strings_add(&never, "token=m00ring-7");
	for (size_t i = 0; i < COUNT_OF(places); i++) {
		struct th_produce_options options = {.compression = TH_ZSTD,
			.level = 1,
			.tree = -1,
			.never = &never,
			.blob = open_blob()};
		struct th_produced produced;
		struct th_error err = {0};

		make_plain();
		CHECK_INT(produce_all(&options, 9999, &produced, &err), 0);
		memcpy(plain + places[i], "m00ring-7", 9);
		CHECK_INT(produce_all(&options, 9999, &produced, &err), -1);
		CHECK(strstr(err.msg, "\"token\"") != NULL);
		free(plain);
		th_close(&options.blob);
	}
	th_strings_release(&never);
}

static void what_is_broken_off_ends(void)
{
	struct th_produce_options options = {
		.compression = TH_GZIP, .level = 1, .blob = open_blob()};
	struct th_produce *produce = NULL;
	struct th_error err = {0};
	struct th_sink *sink;

	mkdirat(unit_folder_fd, "tree", 0755);
	options.tree = openat(unit_folder_fd, "tree", O_RDONLY | O_DIRECTORY);
	make_plain();
	CHECK_INT(th_produce_begin(&options, &produce, &err), 0);
	sink = th_produce_sink(produce);
	CHECK_INT(sink->put(sink, plain, 600, &err), 0);
	th_produce_free(produce);
	/* What is no archive fails in the unpacker, and is told here. */
	CHECK_INT(th_produce_begin(&options, &produce, &err), 0);
	sink = th_produce_sink(produce);
	for (int i = 0; i < 100 && !err.code; i++)
		sink->put(sink, plain, PLAIN_BYTES, &err);
	CHECK(err.code != TH_OK);
	th_produce_free(produce);
	th_close(&options.tree);
	th_close(&options.blob);
	free(plain);
}

static void compressions_are_read(void)
{
	static const struct {
		const char *text;
		int rc;
		enum th_compression compression;
		int level;
	} texts[] = {{"gzip", 0, TH_GZIP, 1}, {"zstd", 0, TH_ZSTD, 3},
		{"none", 0, TH_PLAIN, 0}, {"gzip,level=9", 0, TH_GZIP, 9},
		{"zstd,level=19", 0, TH_ZSTD, 19}, {"gzip,level=10", -1, 0, 0},
		{"zstd,level=0", -1, 0, 0}, {"none,level=1", -1, 0, 0},
		{"gz", -1, 0, 0}, {"", -1, 0, 0}, {"gzip,", -1, 0, 0},
		{"gzip,level=", -1, 0, 0}, {"gzip,level=6x", -1, 0, 0},
		{"gzip,level=-1", -1, 0, 0}};

	for (size_t i = 0; i < COUNT_OF(texts); i++) {
		enum th_compression compression = TH_PLAIN;
		struct th_error err = {0};
		int level = -7;

		CHECK_INT(th_compression_parse(
				  texts[i].text, &compression, &level, &err),
			texts[i].rc);
		if (texts[i].rc)
			continue;
		CHECK_INT(compression, texts[i].compression);
		CHECK_INT(level, texts[i].level);
	}
}

/* What was compressed before must not show: tables that are left over, or never
 * set, would lead to other matches. */
static void a_piece_depends_on_itself_alone(void)
{
	static const struct {
		enum th_compression compression;
		int level;
	} kinds[] = {{TH_GZIP, 0}, {TH_GZIP, 1}, {TH_GZIP, 2}, {TH_GZIP, 6},
		{TH_ZSTD, 1}, {TH_ZSTD, 3}, {TH_ZSTD, 12}};
	static unsigned char one[20000], other[20000];
	static char text[8000], shifted[10000];

	for (size_t k = 0; k < COUNT_OF(kinds); k++) {
		struct th_deflate *used =
			th_deflate_new(kinds[k].compression, kinds[k].level);

		for (int round = 0; round < 300; round++) {
			struct th_deflate *fresh = th_deflate_new(
				kinds[k].compression, kinds[k].level);
			size_t len = 0, first, second;

			while (len < 4000 + (size_t)round * 10)
				len += (size_t)snprintf(text + len,
					sizeof(text) - len,
					"day %zu  %02zu:%02d high %d.%zu m\n",
					len % 7, len % 24, round % 60,
					round % 9, len % 10);
			/* The same, elsewhere. */
			memset(shifted, 'x', (size_t)round * 3);
			memcpy(shifted + round * 3, text, len);
			th_deflate_piece(used, shifted, len, one, sizeof(one));
			first = th_deflate_piece(
				used, text, len, one, sizeof(one));
			second = th_deflate_piece(
				fresh, text, len, other, sizeof(other));
			CHECK_INT(first, second);
			CHECK(first && memcmp(one, other, first) == 0);
			th_deflate_free(fresh);
		}
		th_deflate_free(used);
	}
}

static const CU_TestInfo tests[] = {
	{"every kind and level can be read", every_kind_and_level_can_be_read},
	{"a full disk is told", a_full_disk_is_told},
	{"a secret is found", a_secret_is_found},
	{"what is broken off ends", what_is_broken_off_ends},
	{"a piece depends on itself alone", a_piece_depends_on_itself_alone},
	{"compressions are read", compressions_are_read}, CU_TEST_INFO_NULL};

const struct suite suite_produce = {"produce", tests};
