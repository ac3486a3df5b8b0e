#include "layer/tar_write.h"

#include <errno.h>
#include <inttypes.h>
#include <stdio.h>
#include <string.h>
#include <sys/sysmacros.h>

#include "base/file.h"
#include "base/utf8.h"
#include "layer/tar_parts.h"

#define HEADER_MAX (64u << 20)
/* The most that the fields for sizes and IDs hold. */
#define SIZE_MOST 077777777777
#define ID_MOST 07777777
#define NAME_BYTES 100

int th_tar_parts_add(struct th_tar_parts *parts, uint64_t offset, uint64_t len)
{
	void *list = parts->items;
	struct th_tar_part *part = th_grow(&list, parts->count, sizeof(*part));

	if (!part)
		return -1;
	parts->items = list;
	parts->count++;
	part->offset = offset;
	part->len = len;
	return 0;
}

void th_tar_out_init(struct th_tar_out *out, int fd)
{
	memset(out, 0, sizeof(*out));
	out->fd = fd;
	th_buf_init(&out->header, HEADER_MAX);
}

void th_tar_out_init_sink(struct th_tar_out *out, struct th_sink *sink)
{
	th_tar_out_init(out, -1);
	out->sink = sink;
}

void th_tar_out_release(struct th_tar_out *out)
{
	th_buf_release(&out->header);
}

static int write_out(struct th_tar_out *out, const void *data, size_t len,
	struct th_error *err)
{
	if (out->sink) {
		if (out->sink->put(out->sink, data, len, err))
			return -1;
	} else if (th_write_all(out->fd, data, len)) {
		return th_fail_write(err, errno, "cannot write the archive");
	}
	out->written_bytes += len;
	return 0;
}

static size_t padding_of(uint64_t size)
{
	return (size_t)((TAR_BLOCK - size % TAR_BLOCK) % TAR_BLOCK);
}

static void add_padding(struct th_buf *text)
{
	static const char zeros[TAR_BLOCK];

	th_buf_add(text, zeros, padding_of(text->len));
}

/* ---- headers ---- */

static bool is_utf8(const char *text)
{
	size_t len = strlen(text);

	while (len > 0) {
		size_t step = th_utf8_length((const unsigned char *)text, len);

		if (!step)
			return false;
		text += step;
		len -= step;
	}
	return true;
}

/* "LENGTH KEY=VALUE\n": the length counts its own digits. The value may hold
 * any bytes. */
static void add_bytes(struct th_buf *text, const char *key, const char *suffix,
	const void *value, size_t value_len)
{
	size_t rest = strlen(key) + strlen(suffix) + value_len + 3;
	size_t len = rest + 1;
	char digits[24];

	for (;;) {
		int width = snprintf(digits, sizeof(digits), "%zu", len);

		if (rest + (size_t)width == len)
			break;
		len = rest + (size_t)width;
	}
	th_buf_addf(text, "%s %s%s=", digits, key, suffix);
	th_buf_add(text, value, value_len);
	th_buf_adds(text, "\n");
}

static void add_record(struct th_buf *text, const char *key, const char *value)
{
	add_bytes(text, key, "", value, strlen(value));
}

static void add_number(struct th_buf *text, const char *key, uint64_t value)
{
	char digits[24];

	snprintf(digits, sizeof(digits), "%" PRIu64, value);
	add_record(text, key, digits);
}

static void add_time(struct th_buf *text, const struct timespec *time)
{
	char digits[48];
	int64_t seconds = time->tv_sec;
	long nanoseconds = time->tv_nsec;
	bool minus = seconds < 0 && nanoseconds;

	/* -1.5 s is said as two seconds before, and half of one after. */
	if (minus) {
		seconds++;
		nanoseconds = 1000000000 - nanoseconds;
	}
	snprintf(digits, sizeof(digits), "%s%" PRId64 ".%09ld",
		minus && seconds == 0 ? "-" : "", seconds, nanoseconds);
	add_record(text, "mtime", digits);
}

static void put_octal(char *block, size_t at, size_t len, uint64_t value)
{
	char digits[24];

	snprintf(digits, sizeof(digits), "%0*" PRIo64, (int)len - 1, value);
	memcpy(block + at, digits, len - 1);
}

static void fill_block(char block[TAR_BLOCK], const char *name,
	const char *link, char type, const struct th_tar_entry *entry,
	uint64_t size)
{
	unsigned int sum = 0;
	size_t name_len = strlen(name), link_len = strlen(link);
	int64_t seconds = entry->mtime.tv_sec;

	memset(block, 0, TAR_BLOCK);
	memcpy(block, name, name_len < NAME_BYTES ? name_len : NAME_BYTES);
	memcpy(block + 157, link,
		link_len < NAME_BYTES ? link_len : NAME_BYTES);
	put_octal(block, 100, 8, entry->mode);
	put_octal(block, 108, 8, entry->uid <= ID_MOST ? entry->uid : 0);
	put_octal(block, 116, 8, entry->gid <= ID_MOST ? entry->gid : 0);
	put_octal(block, 124, 12, size <= SIZE_MOST ? size : 0);
	put_octal(block, 136, 12,
		seconds >= 0 && seconds <= SIZE_MOST ? (uint64_t)seconds : 0);
	block[156] = type;
	memcpy(block + 257, "ustar\00000", 8);
	put_octal(block, 329, 8, major(entry->device));
	put_octal(block, 337, 8, minor(entry->device));
	memset(block + 148, ' ', 8);
	for (size_t i = 0; i < TAR_BLOCK; i++)
		sum += (unsigned char)block[i];
	snprintf(block + 148, 8, "%06o", sum);
}

static char letter_of(mode_t type)
{
	switch (type) {
	case 0:
		return '1';
	case S_IFLNK:
		return '2';
	case S_IFCHR:
		return '3';
	case S_IFBLK:
		return '4';
	case S_IFDIR:
		return '5';
	case S_IFIFO:
		return '6';
	default:
		return '0';
	}
}

/* What the entry's own header cannot say. */
static void list_records(struct th_buf *text, const struct th_tar_entry *entry,
	const char *name, uint64_t stored, bool sparse)
{
	int64_t seconds = entry->mtime.tv_sec;

	if (!is_utf8(name) || !is_utf8(entry->link))
		add_record(text, "hdrcharset", "BINARY");
	if (!sparse && strlen(name) > NAME_BYTES)
		add_record(text, "path", name);
	if (strlen(entry->link) > NAME_BYTES)
		add_record(text, "linkpath", entry->link);
	if (stored > SIZE_MOST)
		add_number(text, "size", stored);
	if (entry->uid > ID_MOST)
		add_number(text, "uid", entry->uid);
	if (entry->gid > ID_MOST)
		add_number(text, "gid", entry->gid);
	if (entry->mtime.tv_nsec || seconds < 0 || seconds > SIZE_MOST)
		add_time(text, &entry->mtime);
	for (size_t i = 0; i < entry->attribute_count; i++)
		add_bytes(text, "SCHILY.xattr.", entry->attributes[i].name,
			entry->attributes[i].value, entry->attributes[i].len);
	if (!sparse)
		return;
	add_record(text, "GNU.sparse.major", "1");
	add_record(text, "GNU.sparse.minor", "0");
	add_record(text, "GNU.sparse.name", name);
	add_number(text, "GNU.sparse.realsize", entry->size_bytes);
}

static int write_header(struct th_tar_out *out,
	const struct th_tar_entry *entry, const char *name, uint64_t stored,
	bool sparse, struct th_error *err)
{
	const struct th_tar_entry plain = {.mode = 0644};
	struct th_buf records;
	char block[TAR_BLOCK];

	th_buf_init(&records, HEADER_MAX);
	list_records(&records, entry, name, stored, sparse);
	out->header.len = 0;
	if (records.len) {
		fill_block(
			block, "extended-header", "", 'x', &plain, records.len);
		th_buf_add(&out->header, block, sizeof(block));
		th_buf_add(&out->header, records.data, records.len);
		add_padding(&out->header);
	}
	fill_block(block, name, entry->link, letter_of(entry->type), entry,
		stored);
	th_buf_add(&out->header, block, sizeof(block));
	if (records.failed || out->header.failed) {
		th_buf_release(&records);
		return th_fail_memory(err);
	}
	th_buf_release(&records);
	return write_out(out, out->header.data, out->header.len, err);
}

int th_tar_out_comment(struct th_tar_out *out, const char *name,
	const char *comment, struct th_error *err)
{
	const struct th_tar_entry plain = {.mode = 0644};
	struct th_buf records;
	char block[TAR_BLOCK];
	int rc;

	th_buf_init(&records, HEADER_MAX);
	add_record(&records, "comment", comment);
	out->header.len = 0;
	fill_block(block, name, "", 'g', &plain, records.len);
	th_buf_add(&out->header, block, sizeof(block));
	th_buf_add(&out->header, records.data, records.len);
	add_padding(&out->header);
	rc = records.failed || out->header.failed
		? th_fail_memory(err)
		: write_out(out, out->header.data, out->header.len, err);
	th_buf_release(&records);
	return rc;
}

/* ---- */

int th_tar_out_entry(struct th_tar_out *out, const struct th_tar_entry *entry,
	const struct th_tar_part *parts, size_t count, struct th_error *err)
{
	char name[TH_TAR_NAME_MAX];
	uint64_t stored = entry->type == S_IFREG ? entry->size_bytes : 0;
	struct th_buf map;
	int rc;

	snprintf(name, sizeof(name), "%s%s", entry->name,
		entry->type == S_IFDIR ? "/" : "");
	if (!parts) {
		out->left = stored;
		out->padding = padding_of(stored);
		return write_header(out, entry, name, stored, false, err);
	}
	th_buf_init(&map, HEADER_MAX);
	th_buf_addf(&map, "%zu\n", count);
	stored = 0;
	for (size_t i = 0; i < count; i++) {
		th_buf_addf(&map, "%" PRIu64 "\n%" PRIu64 "\n", parts[i].offset,
			parts[i].len);
		stored += parts[i].len;
	}
	add_padding(&map);
	out->left = stored;
	out->padding = padding_of(stored);
	rc = map.failed
		? th_fail_memory(err)
		: write_header(out, entry, name, stored + map.len, true, err);
	if (rc == 0)
		rc = write_out(out, map.data, map.len, err);
	th_buf_release(&map);
	return rc;
}

int th_tar_out_data(struct th_tar_out *out, const void *data, size_t len,
	struct th_error *err)
{
	static const char zeros[TAR_BLOCK];

	if (len > out->left)
		return th_fail(err, TH_FAILED,
			"a file has become longer while it was read");
	if (write_out(out, data, len, err))
		return -1;
	out->left -= len;
	return out->left || !out->padding
		? 0
		: write_out(out, zeros, out->padding, err);
}

int th_tar_out_end(struct th_tar_out *out, struct th_error *err)
{
	static const char zeros[2 * TAR_BLOCK];

	return write_out(out, zeros, sizeof(zeros), err);
}
