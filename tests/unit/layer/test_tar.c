#include "layer/tar.h"

#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "layer/tar_write.h"
#include "lib/tar.h"
#include "unit/unit.h"

/* ---- archives made by hand ---- */

static struct th_buf archive;

static void seal(char *block)
{
	unsigned int sum = 0;

	memset(block + 148, ' ', 8);
	for (int i = 0; i < 512; i++)
		sum += (unsigned char)block[i];
	snprintf(block + 148, 8, "%06o", sum);
}

/* Appends a header, and the data behind it. */
static char *put(const char *name, char type, const char *data, size_t len)
{
	char block[512] = "", zeros[512] = "";
	size_t at = archive.len;

	snprintf(block, 100, "%s", name);
	snprintf(block + 100, 8, "0000644");
	snprintf(block + 108, 8, "0000005");
	snprintf(block + 116, 8, "0000006");
	snprintf(block + 124, 12, "%011o", (unsigned int)len);
	snprintf(block + 136, 12, "%011o", 1772323200u);
	block[156] = type;
	memcpy(block + 257, "ustar\00000", 8);
	seal(block);
	th_buf_add(&archive, block, sizeof(block));
	th_buf_add(&archive, data, len);
	th_buf_add(&archive, zeros, (512 - len % 512) % 512);
	return archive.data + at;
}

static void begin(void)
{
	th_buf_release(&archive);
	th_buf_init(&archive, 16 << 20);
}

static void put_end(void)
{
	static const char zeros[1024];

	th_buf_add(&archive, zeros, sizeof(zeros));
}

/* Reads all of it: the number of entries, or -1. */
static int count_entries(struct th_error *err)
{
	const struct th_tar_entry *entry;
	struct tar_source source;
	struct th_tar *tar;
	int rc, count = 0;

	tar_source_init(&source, archive.data, archive.len, 333);
	tar = th_tar_new(&source.source);
	while ((rc = th_tar_next(tar, &entry, err)) == 1) {
		const void *data;
		uint64_t offset;
		size_t len;

		count++;
		while ((rc = th_tar_data(tar, &data, &len, &offset, err)) == 1)
			CHECK(offset + len <= entry->size_bytes);
		if (rc)
			break;
	}
	th_tar_free(tar);
	return rc < 0 ? -1 : count;
}

static void what_breaks_the_format_is_refused(void)
{
	static const struct {
		const char *records, *says;
	} cases[] = {{"", NULL}, {"12 path=a/b\n", NULL},
		{"16 mtime=12.345\n", NULL}, {"9 mtime=\n", NULL},
		{"25 SCHILY.xattr.user.a=b\n", NULL},
		{"32 LIBARCHIVE.xattr.user.a=QUJD\n", NULL},
		{"20 comment=anything\n", NULL},
		/* lengths */
		{"13 path=a/b\n", "malformed"}, {"11 path=a/b\n", "malformed"},
		{"path=a/b\n", "malformed"}, {"-12 path=a/b\n", "malformed"},
		{"12 path=a/b ", "malformed"}, {"5 a=\n", NULL},
		{"4 =\n", "malformed"}, {"8 hello\n", "malformed"},
		{"99999999999999999999 path=a\n", "malformed"},
		/* values */
		{"11 size=1x\n", "malformed"}, {"11 size=-1\n", "malformed"},
		{"9 uid=0x\n", "malformed"}, {"13 mtime=1.x\n", "malformed"},
		{"12 mtime=--\n", "malformed"},
		{"18 uid=4294967295\n", "wrong user ID"},
		{"18 gid=4294967296\n", "wrong group ID"},
		{"28 size=9223372036854775807\n", "wrong size"},
		{"29 LIBARCHIVE.xattr.user.a=*\n", "malformed"},
		{"31 LIBARCHIVE.xattr.user.%%=QQ\n", "malformed"},
		/* sparse files */
		{"22 GNU.sparse.size=10\n", NULL},
		{"22 GNU.sparse.size=10\n19 GNU.sparse.map=\n",
			"does not fit what is stored"},
		{"22 GNU.sparse.size=10\n22 GNU.sparse.map=0,4\n", NULL},
		{"22 GNU.sparse.size=10\n22 GNU.sparse.map=7,4\n",
			"leads beyond its file"},
		{"22 GNU.sparse.size=10\n22 GNU.sparse.map=0,5\n",
			"does not fit"},
		{"22 GNU.sparse.size=10\n26 GNU.sparse.map=4,2,3,2\n",
			"out of order"},
		{"22 GNU.sparse.size=10\n20 GNU.sparse.map=0\n", "malformed"},
		{"22 GNU.sparse.map=0,4\n", "incomplete"},
		{"22 GNU.sparse.major=2\n", "unknown version"},
		{"22 GNU.sparse.major=1\n", "no size"},
		{"25 GNU.sparse.numbytes=4\n", "malformed"},
		{"23 GNU.sparse.offset=4\n", "malformed"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_error err = {0};
		int count;

		begin();
		put("extended", 'x', cases[i].records,
			strlen(cases[i].records));
		put("file", '0', "abcd", 4);
		put_end();
		count = count_entries(&err);
		CHECK_INT(count, cases[i].says ? -1 : 1);
		if (cases[i].says && !strstr(err.msg, cases[i].says))
			printf("\n    %s: %s\n", cases[i].records, err.msg);
		CHECK(!cases[i].says || strstr(err.msg, cases[i].says));
	}
}

static void headers_are_checked(void)
{
	static const struct {
		int at;
		const char *bytes;
		int len;
		const char *says;
	} cases[] = {{0, "file", 4, NULL}, {124, "0000000000x", 11, "size"},
		{124, "\x80\0\0\0\0\0\0\0\0\0\0\4", 12, NULL},
		{124, "\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff", 12,
			"size"},
		{124, "\x80\0\0\1\0\0\0\0\0\0\0\0", 12, "size"},
		{124, "           4", 12, NULL}, {108, "9999999", 7, "user ID"},
		{116, "-000001", 7, "group ID"}, {100, "0o644\0\0", 7, "mode"},
		{136, "\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff", 12,
			NULL},
		{156, "M", 1, "unknown type"}, {156, "z", 1, "unknown type"},
		{156, "\x80", 1, "unknown type"}, {0, "\0\0\0\0", 4, "no name"},
		{156, "3", 1, NULL}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_error err = {0};
		char *block;

		begin();
		block = put("file", '0', "abcd", 4);
		memcpy(block + cases[i].at, cases[i].bytes,
			(size_t)cases[i].len);
		seal(block);
		/* A node has no data. */
		if (cases[i].bytes[0] == '3')
			archive.len -= 512;
		put_end();
		CHECK_INT(count_entries(&err), cases[i].says ? -1 : 1);
		if (cases[i].says && !strstr(err.msg, cases[i].says))
			printf("\n    case %zu: %s\n", i, err.msg);
		CHECK(!cases[i].says || strstr(err.msg, cases[i].says));
	}
}

static void ends_are_found(void)
{
	struct th_error err = {0};
	char zeros[512] = "";

	/* Nothing at all, and no end, is what many write. */
	begin();
	CHECK_INT(count_entries(&err), 0);
	put("file", '0', "abcd", 4);
	CHECK_INT(count_entries(&err), 1);
	th_buf_add(&archive, zeros, sizeof(zeros));
	CHECK_INT(count_entries(&err), 1);
	/* What one reader takes for the end and another one does not. */
	put("hidden", '0', "abcd", 4);
	CHECK_INT(count_entries(&err), -1);
	CHECK(strstr(err.msg, "something follows its end") != NULL);
	/* A header about one that does not come. */
	begin();
	put("extended", 'x', "12 path=a/b\n", 12);
	put_end();
	CHECK_INT(count_entries(&err), -1);
	begin();
	put("long", 'L', "name", 5);
	CHECK_INT(count_entries(&err), -1);
	/* Any place to be cut off. */
	begin();
	put("extended", 'x', "12 path=a/b\n", 12);
	put("file", '0', "abcd", 4);
	while (archive.len > 1536 + 4) {
		archive.len--;
		CHECK_INT(count_entries(&err), -1);
	}
}

static void long_names_are_one_piece(void)
{
	struct th_error err = {0};

	begin();
	put("long", 'L', "a\0b", 4);
	put("file", '0', "", 0);
	CHECK_INT(count_entries(&err), -1);
	CHECK(strstr(err.msg, "long name is malformed") != NULL);
	begin();
	put("extended", 'x', "11 path=a\0b\n", 12);
	put("file", '0', "", 0);
	CHECK_INT(count_entries(&err), -1);
}

/* ---- there and back ---- */

static struct th_tar_entry sample(const char *name, mode_t type)
{
	struct th_tar_entry entry = {.name = name,
		.link = type == S_IFLNK ? "where/it/leads" : "",
		.type = type,
		.mode = 0640,
		.uid = 70000000,
		.gid = 12,
		.mtime = {-5, 250000000},
		.device = makedev(7, 300)};

	return entry;
}

static void check_same(
	const struct th_tar_entry *entry, const struct th_tar_entry *wanted)
{
	char name[5000];

	snprintf(name, sizeof(name), "%s%s", wanted->name,
		wanted->type == S_IFDIR ? "/" : "");
	CHECK_TEXT(entry->name, name);
	CHECK_TEXT(entry->link, wanted->link);
	CHECK_INT(entry->type, wanted->type);
	CHECK_INT(entry->mode, wanted->mode);
	CHECK_INT(entry->uid, wanted->uid);
	CHECK_INT(entry->gid, wanted->gid);
	CHECK_INT(entry->size_bytes, wanted->size_bytes);
	CHECK_INT(entry->mtime.tv_sec, wanted->mtime.tv_sec);
	CHECK_INT(entry->mtime.tv_nsec, wanted->mtime.tv_nsec);
	if (wanted->type == S_IFCHR)
		CHECK_INT(entry->device, wanted->device);
}

static void what_is_written_is_read(void)
{
	static char deep[3000];
	const struct th_tar_part parts[] = {
		{4096, 3}, {1 << 20, 2}, {9 << 20, 0}};
	struct th_tar_entry wanted[7];
	const struct th_tar_entry *entry;
	struct th_error err = {0};
	struct th_tar_out out;
	struct th_tar *tar;
	uint64_t offset;
	const void *data;
	size_t len;
	int fd = memfd_create("archive", MFD_CLOEXEC);

	memset(deep, 'd', sizeof(deep) - 1);
	for (size_t i = 100; i < sizeof(deep) - 100; i += 100)
		deep[i] = '/';
	wanted[0] = sample("plain", S_IFREG);
	wanted[0].size_bytes = 1000;
	wanted[1] = sample("folder", S_IFDIR);
	wanted[2] = sample("caf\xc3\xa9 \xff", S_IFLNK);
	wanted[3] = sample(deep, S_IFIFO);
	wanted[4] = sample("node", S_IFCHR);
	wanted[5] = sample("holes", S_IFREG);
	wanted[5].size_bytes = 9 << 20;
	wanted[6] = sample("last", S_IFREG);
	th_tar_out_init(&out, fd);
	for (size_t i = 0; i < COUNT_OF(wanted); i++) {
		CHECK_INT(th_tar_out_entry(&out, &wanted[i],
				  i == 5 ? parts : NULL, COUNT_OF(parts), &err),
			0);
		if (i == 0) {
			CHECK_INT(th_tar_out_data(&out, deep, 600, &err), 0);
			CHECK_INT(th_tar_out_data(&out, deep, 400, &err), 0);
			/* More than was said. */
			CHECK_INT(th_tar_out_data(&out, deep, 1, &err), -1);
		}
		if (i == 5)
			CHECK_INT(th_tar_out_data(&out, "abcde", 5, &err), 0);
	}
	CHECK_INT(th_tar_out_end(&out, &err), 0);
	CHECK_INT(lseek(fd, 0, SEEK_CUR), (off_t)out.written_bytes);
	lseek(fd, 0, SEEK_SET);
	tar = th_tar_new_fd(fd, (struct th_cancel){0});
	for (size_t i = 0; i < COUNT_OF(wanted); i++) {
		CHECK_INT(th_tar_next(tar, &entry, &err), 1);
		check_same(entry, &wanted[i]);
		if (i != 5)
			continue;
		CHECK(entry->sparse);
		CHECK_INT(th_tar_data(tar, &data, &len, &offset, &err), 1);
		CHECK(len == 3 && offset == 4096 &&
			memcmp(data, "abc", 3) == 0);
		CHECK_INT(th_tar_data(tar, &data, &len, &offset, &err), 1);
		CHECK(len == 2 && offset == 1 << 20);
		CHECK_INT(th_tar_data(tar, &data, &len, &offset, &err), 0);
	}
	CHECK_INT(th_tar_next(tar, &entry, &err), 0);
	th_tar_free(tar);
	th_tar_out_release(&out);
	close(fd);
}

static void what_is_passed_over_is_not_read(void)
{
	const struct th_tar_entry *entry;
	struct th_tar_entry large = sample("large", S_IFREG);
	struct th_error err = {0};
	struct th_tar_out out;
	struct th_tar *tar;
	int fd = memfd_create("archive", MFD_CLOEXEC);

	large.size_bytes = (uint64_t)1 << 40;
	th_tar_out_init(&out, fd);
	CHECK_INT(th_tar_out_entry(&out, &large, NULL, 0, &err), 0);
	lseek(fd, (off_t)large.size_bytes, SEEK_CUR);
	large = sample("behind", S_IFDIR);
	CHECK_INT(th_tar_out_entry(&out, &large, NULL, 0, &err), 0);
	CHECK_INT(th_tar_out_end(&out, &err), 0);
	lseek(fd, 0, SEEK_SET);
	tar = th_tar_new_fd(fd, (struct th_cancel){0});
	CHECK_INT(th_tar_next(tar, &entry, &err), 1);
	CHECK_INT(entry->size_bytes, (uint64_t)1 << 40);
	CHECK_INT(th_tar_next(tar, &entry, &err), 1);
	CHECK_TEXT(entry->name, "behind/");
	th_tar_free(tar);
	/* And a file that is shorter than it says is no way round. */
	CHECK_INT(ftruncate(fd, 1 << 20), 0);
	lseek(fd, 0, SEEK_SET);
	tar = th_tar_new_fd(fd, (struct th_cancel){0});
	CHECK_INT(th_tar_next(tar, &entry, &err), 1);
	CHECK_INT(th_tar_next(tar, &entry, &err), -1);
	CHECK(strstr(err.msg, "truncated in the entry \"large\"") != NULL);
	th_tar_free(tar);
	th_tar_out_release(&out);
	close(fd);
	th_buf_release(&archive);
}

static const CU_TestInfo tests[] = {{"what breaks the format is refused",
					    what_breaks_the_format_is_refused},
	{"headers are checked", headers_are_checked},
	{"ends are found", ends_are_found},
	{"long names are one piece", long_names_are_one_piece},
	{"what is written is read", what_is_written_is_read},
	{"what is passed over is not read", what_is_passed_over_is_not_read},
	CU_TEST_INFO_NULL};

const struct suite suite_tar = {"tar", tests};
