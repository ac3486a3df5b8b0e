#include <errno.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "layer/tar_parts.h"

/* The header's fields (tar(5)). */
#define NAME 0
#define NAME_LEN 100
#define MODE 100
#define UID 108
#define GID 116
#define SIZE 124
#define MTIME 136
#define CHECKSUM 148
#define TYPE 156
#define LINK 157
#define MAGIC 257
#define MAJOR 329
#define MINOR 337
#define PREFIX 345
#define PREFIX_LEN 155
/* of GNU's sparse files */
#define OLD_MAP 386
#define OLD_MAP_PIECES 4
#define OLD_EXTENDED 482
#define OLD_REAL_SIZE 483
#define NEXT_MAP_PIECES 21
#define NEXT_EXTENDED 504

#define EXTENDED_MAX (16u << 20)
/* The last value that is no ID: it means "unchanged" to chown(2). */
#define ID_MAX 4294967294u

#define READ_BYTES (256 * 1024)

/* A descriptor as a source. */
struct fd_source {
	struct th_source source; /* first: the two are one */
	int fd;
	off_t size; /* of a regular file; -1: it cannot be passed over */
	char *data;
};

struct th_tar {
	struct th_source *source;
	struct fd_source own_source;
	const char *have; /* of the source's last piece */
	size_t have_len;
	bool at_end;
	uint64_t position; /* in the archive */
	char block[TAR_BLOCK];
	/* what extended headers say: about all entries, and about the next */
	struct tar_pax global, own;
	bool own_given;
	struct th_buf long_name, long_link; /* GNU's, of the next entry */
	struct th_buf name, link, extended;
	struct th_tar_entry entry;
	/* the current entry's data */
	uint64_t stored_left; /* in the archive */
	uint64_t padding;
	uint64_t done; /* in the file, where it is not sparse */
	size_t piece;
	uint64_t piece_done;
	bool in_entry, ended;
};

/* ---- bytes ---- */

static int truncated(const struct th_tar *tar, struct th_error *err)
{
	if (!tar->in_entry)
		return th_fail(err, TH_FAILED, "the archive is truncated");
	return th_fail(err, TH_FAILED,
		"the archive is truncated in the entry \"%.200s\"",
		tar->entry.name);
}

static int damaged(
	const struct th_tar *tar, const char *why, struct th_error *err)
{
	return th_fail(err, TH_FAILED,
		"the archive is damaged at byte %" PRIu64 ": %s", tar->position,
		why);
}

/* Sees to it that a byte is at hand. 1, 0 at the end, -1. */
static int look(struct th_tar *tar, struct th_error *err)
{
	const void *data;
	ssize_t got;

	if (tar->have_len > 0)
		return 1;
	if (tar->at_end)
		return 0;
	got = tar->source->next(tar->source, &data, err);
	if (got < 0)
		return -1;
	tar->have = data;
	tar->have_len = (size_t)got;
	tar->at_end = got == 0;
	return got > 0;
}

static void use(struct th_tar *tar, size_t len)
{
	tar->have += len;
	tar->have_len -= len;
	tar->position += len;
}

/* 1, 0 where nothing is left, -1. */
static int read_block(struct th_tar *tar, struct th_error *err)
{
	size_t have = 0;

	while (have < TAR_BLOCK) {
		size_t len = TAR_BLOCK - have;
		int rc = look(tar, err);

		if (rc < 0)
			return -1;
		if (rc == 0)
			return have ? truncated(tar, err) : 0;
		if (len > tar->have_len)
			len = tar->have_len;
		memcpy(tar->block + have, tar->have, len);
		use(tar, len);
		have += len;
	}
	return 1;
}

/* Leaves what is not at hand yet unread, where that is possible. Returns how
 * much of it. */
static uint64_t skip(struct th_tar *tar, uint64_t len)
{
	const struct fd_source *own = &tar->own_source;
	off_t at;

	if (tar->source != &own->source || own->size < 0 ||
		len <= tar->have_len + READ_BYTES)
		return 0;
	len -= tar->have_len;
	at = lseek(own->fd, 0, SEEK_CUR);
	if (at < 0 || (uint64_t)(own->size - at) < len ||
		lseek(own->fd, (off_t)len, SEEK_CUR) < 0)
		return 0;
	len += tar->have_len;
	tar->have_len = 0;
	tar->position += len;
	return len;
}

static int pass_over(struct th_tar *tar, uint64_t len, struct th_error *err)
{
	len -= skip(tar, len);
	while (len > 0) {
		size_t step;
		int rc = look(tar, err);

		if (rc <= 0)
			return rc < 0 ? -1 : truncated(tar, err);
		step = len < tar->have_len ? (size_t)len : tar->have_len;
		use(tar, step);
		len -= step;
	}
	return 0;
}

static uint64_t padding_of(uint64_t size)
{
	return (TAR_BLOCK - size % TAR_BLOCK) % TAR_BLOCK;
}

/* ---- fields ---- */

static bool all_zero(const char *block)
{
	for (size_t i = 0; i < TAR_BLOCK; i++) {
		if (block[i])
			return false;
	}
	return true;
}

/* Octal digits between blanks; or, GNU's and star's, a big-endian number in
 * two's complement whose first bit is set. What is left empty is 0. */
static bool read_number(const char *field, size_t len, int64_t *value)
{
	uint64_t sum = 0;
	size_t i = 0;

	if (field[0] & 0x80) {
		bool minus = field[0] & 0x40;

		sum = minus ? UINT64_MAX : 0;
		for (i = 0; i < len; i++) {
			unsigned char byte = (unsigned char)field[i];

			if (i == 0)
				byte = minus ? byte : byte & 0x7f;
			/* The sign fills all that does not fit. */
			if (sum >> 55 != (minus ? UINT64_MAX >> 55 : 0))
				return false;
			sum = sum << 8 | byte;
		}
		*value = (int64_t)sum;
		return true;
	}
	while (i < len && field[i] == ' ')
		i++;
	for (; i < len && field[i] >= '0' && field[i] <= '7'; i++) {
		if (sum >> 60)
			return false;
		sum = sum << 3 | (uint64_t)(field[i] - '0');
	}
	for (; i < len; i++) {
		if (field[i] != ' ' && field[i] != '\0')
			return false;
	}
	*value = (int64_t)sum;
	return true;
}

static int field(struct th_tar *tar, size_t at, size_t len, int64_t least,
	int64_t most, const char *what, int64_t *value, struct th_error *err)
{
	char why[80];

	if (read_number(tar->block + at, len, value) && *value >= least &&
		*value <= most)
		return 0;
	snprintf(why, sizeof(why), "a header has a wrong %s", what);
	return damaged(tar, why, err);
}

static bool has_checksum(const char *block)
{
	int64_t wanted, plain = 0, as_signed = 0;

	if (!read_number(block + CHECKSUM, 8, &wanted))
		return false;
	for (size_t i = 0; i < TAR_BLOCK; i++) {
		bool own = i >= CHECKSUM && i < CHECKSUM + 8;

		plain += own ? ' ' : (unsigned char)block[i];
		/* Some old programs have added signed bytes. */
		as_signed += own ? ' ' : (signed char)block[i];
	}
	return wanted == plain || wanted == as_signed;
}

static void add_field(
	struct th_buf *text, const char *block, size_t at, size_t len)
{
	th_buf_add(text, block + at, strnlen(block + at, len));
}

static bool is_posix(const char *block)
{
	return memcmp(block + MAGIC, "ustar\0", 6) == 0;
}

/* ---- headers about headers ---- */

/* What stands behind the header, whole, into extended. */
static int read_extended(struct th_tar *tar, size_t most, struct th_error *err)
{
	int64_t size;
	size_t left;

	if (field(tar, SIZE, 12, 0, INT64_MAX, "size", &size, err))
		return -1;
	if ((uint64_t)size > most)
		return damaged(tar, "an extended header is too long", err);
	tar->extended.len = 0;
	for (left = (size_t)size; left > 0;) {
		size_t len;
		int rc = look(tar, err);

		if (rc <= 0)
			return rc < 0 ? -1 : truncated(tar, err);
		len = left < tar->have_len ? left : tar->have_len;
		th_buf_add(&tar->extended, tar->have, len);
		use(tar, len);
		left -= len;
	}
	if (tar->extended.failed)
		return th_fail_memory(err);
	return pass_over(tar, padding_of((uint64_t)size), err);
}

static int read_long(
	struct th_tar *tar, struct th_buf *text, struct th_error *err)
{
	size_t len;

	if (read_extended(tar, TH_TAR_NAME_MAX, err))
		return -1;
	len = strnlen(tar->extended.data, tar->extended.len);
	/* One NUL at its end, and none within it. */
	if (len + 1 < tar->extended.len || len == 0)
		return damaged(tar, "a long name is malformed", err);
	text->len = 0;
	th_buf_add(text, tar->extended.data, len);
	return text->failed ? th_fail_memory(err) : 0;
}

static int read_pax(
	struct th_tar *tar, struct tar_pax *pax, struct th_error *err)
{
	if (read_extended(tar, EXTENDED_MAX, err))
		return -1;
	return tar_pax_read(pax, tar->extended.data, tar->extended.len, err);
}

/* 1 where it was one of those, 0 where it is an entry's own header. */
static int read_special(struct th_tar *tar, struct th_error *err)
{
	int64_t size;
	int rc;

	switch (tar->block[TYPE]) {
	case 'L':
		rc = read_long(tar, &tar->long_name, err);
		break;
	case 'K':
		rc = read_long(tar, &tar->long_link, err);
		break;
	case 'x':
	case 'X':
		if (!tar->own_given && tar_pax_copy(&tar->own, &tar->global))
			return th_fail_memory(err);
		tar->own_given = true;
		rc = read_pax(tar, &tar->own, err);
		break;
	case 'g':
		rc = read_pax(tar, &tar->global, err);
		if (rc == 0 && tar->global.map.given)
			rc = damaged(tar,
				"a sparse file's parts are given for all "
				"files",
				err);
		break;
	case 'V': /* the archive's own name */
		rc = field(tar, SIZE, 12, 0, INT64_MAX, "size", &size, err);
		if (rc == 0)
			rc = pass_over(tar,
				(uint64_t)size + padding_of((uint64_t)size),
				err);
		break;
	default:
		return 0;
	}
	return rc ? -1 : 1;
}

/* ---- the entry ---- */

static const struct tar_pax *said(const struct th_tar *tar)
{
	return tar->own_given ? &tar->own : &tar->global;
}

static void set_text(struct th_buf *text, const struct th_buf *from)
{
	text->len = 0;
	th_buf_add(text, from->data, from->len);
}

static int read_names(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	const char *block = tar->block;

	tar->name.len = tar->link.len = 0;
	if (pax->sparse_name.len && pax->has_real_size) {
		set_text(&tar->name, &pax->sparse_name);
	} else if (pax->path.len) {
		set_text(&tar->name, &pax->path);
	} else if (tar->long_name.len) {
		set_text(&tar->name, &tar->long_name);
	} else {
		if (is_posix(block) && block[PREFIX]) {
			add_field(&tar->name, block, PREFIX, PREFIX_LEN);
			th_buf_add(&tar->name, "/", 1);
		}
		add_field(&tar->name, block, NAME, NAME_LEN);
	}
	if (pax->link.len)
		set_text(&tar->link, &pax->link);
	else if (tar->long_link.len)
		set_text(&tar->link, &tar->long_link);
	else
		add_field(&tar->link, block, LINK, NAME_LEN);
	if (tar->name.failed || tar->link.failed)
		return th_fail_memory(err);
	return tar->name.len ? 0 : damaged(tar, "an entry has no name", err);
}

static int read_id(struct th_tar *tar, size_t at, bool given, uint64_t said_id,
	const char *what, unsigned int *id, struct th_error *err)
{
	char why[80];
	int64_t value;

	if (!given) {
		if (field(tar, at, 8, 0, ID_MAX, what, &value, err))
			return -1;
		*id = (unsigned int)value;
		return 0;
	}
	*id = (unsigned int)said_id;
	if (said_id <= ID_MAX)
		return 0;
	snprintf(why, sizeof(why), "an extended header has a wrong %s", what);
	return damaged(tar, why, err);
}

static int read_device(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	int64_t numbers[2];

	if (field(tar, MAJOR, 8, 0, UINT32_MAX, "device", &numbers[0], err) ||
		field(tar, MINOR, 8, 0, UINT32_MAX, "device", &numbers[1], err))
		return -1;
	if (pax->has_major)
		numbers[0] = (int64_t)pax->major;
	if (pax->has_minor)
		numbers[1] = (int64_t)pax->minor;
	if (numbers[0] < 0 || numbers[0] > UINT32_MAX || numbers[1] < 0 ||
		numbers[1] > UINT32_MAX)
		return damaged(tar, "a device has a wrong number", err);
	tar->entry.device =
		makedev((unsigned int)numbers[0], (unsigned int)numbers[1]);
	return 0;
}

static int read_type(struct th_tar *tar, struct th_error *err)
{
	char type = tar->block[TYPE], why[80];

	switch (type) {
	case '\0':
	case '0':
	case '7': /* contiguous */
		/* Archives older than folders' own type have them so. */
		tar->entry.type = tar->name.data[tar->name.len - 1] == '/'
			? S_IFDIR
			: S_IFREG;
		return 0;
	case 'S':
		tar->entry.type = S_IFREG;
		return 0;
	case '1':
		tar->entry.type = 0;
		return 0;
	case '2':
		tar->entry.type = S_IFLNK;
		return 0;
	case '3':
		tar->entry.type = S_IFCHR;
		return read_device(tar, err);
	case '4':
		tar->entry.type = S_IFBLK;
		return read_device(tar, err);
	case '5':
		tar->entry.type = S_IFDIR;
		return 0;
	case '6':
		tar->entry.type = S_IFIFO;
		return 0;
	default:
		snprintf(why, sizeof(why),
			type > ' ' && type < 127
				? "an entry has the unknown type \"%c\""
				: "an entry has the unknown type %d",
			type);
		return damaged(tar, why, err);
	}
}

/* ---- sparse files ---- */

/* count pieces of 2 x 12 bytes; one without a size ends them. */
static int read_old_pieces(struct th_tar *tar, struct tar_map *map, size_t at,
	size_t count, struct th_error *err)
{
	for (size_t i = 0; i < count; i++, at += 24) {
		int64_t offset, len;

		if (!tar->block[at] && !tar->block[at + 12])
			return 0;
		if (field(tar, at, 12, 0, INT64_MAX, "sparse map", &offset,
			    err) ||
			field(tar, at + 12, 12, 0, INT64_MAX, "sparse map",
				&len, err) ||
			tar_map_add(map, (uint64_t)offset, (uint64_t)len, err))
			return -1;
	}
	return 0;
}

static int read_old_sparse(struct th_tar *tar, struct th_error *err)
{
	struct tar_map *map = &tar->own.map;
	int64_t size;
	bool more;

	map->count = 0;
	map->given = true;
	if (field(tar, OLD_REAL_SIZE, 12, 0, INT64_MAX, "size", &size, err) ||
		read_old_pieces(tar, map, OLD_MAP, OLD_MAP_PIECES, err))
		return -1;
	tar->entry.size_bytes = (uint64_t)size;
	for (more = tar->block[OLD_EXTENDED]; more;
		more = tar->block[NEXT_EXTENDED]) {
		int rc = read_block(tar, err);

		if (rc <= 0)
			return rc < 0 ? -1 : truncated(tar, err);
		if (read_old_pieces(tar, map, 0, NEXT_MAP_PIECES, err))
			return -1;
	}
	return 0;
}

/* A line of the map that stands before the data in version 1.0. */
static int read_map_number(struct th_tar *tar, uint64_t *used, uint64_t *number,
	struct th_error *err)
{
	char digits[24];
	size_t len = 0;

	for (;;) {
		int rc = tar->stored_left ? look(tar, err) : 0;
		char c;

		if (rc <= 0)
			return rc < 0 ? -1 : truncated(tar, err);
		c = *tar->have;
		use(tar, 1);
		tar->stored_left--;
		++*used;
		if (c == '\n')
			break;
		if (len == sizeof(digits))
			return damaged(tar, "a sparse map is malformed", err);
		digits[len++] = c;
	}
	return tar_decimal(digits, len, number)
		? 0
		: damaged(tar, "a sparse map is malformed", err);
}

static int read_new_map(struct th_tar *tar, struct th_error *err)
{
	struct tar_map *map = &tar->own.map;
	uint64_t count, used = 0, rest;

	map->count = 0;
	map->given = true;
	if (read_map_number(tar, &used, &count, err))
		return -1;
	for (uint64_t i = 0; i < count; i++) {
		uint64_t offset, len;

		if (read_map_number(tar, &used, &offset, err) ||
			read_map_number(tar, &used, &len, err) ||
			tar_map_add(map, offset, len, err))
			return -1;
	}
	rest = padding_of(used);
	if (rest > tar->stored_left)
		return damaged(tar, "a sparse map is malformed", err);
	tar->stored_left -= rest;
	return pass_over(tar, rest, err);
}

/* All of the map lies in the file, and all that is stored in the map. */
static int check_map(struct th_tar *tar, struct th_error *err)
{
	const struct tar_map *map = &tar->own.map;
	uint64_t sum = 0;

	for (size_t i = 0; i < map->count; i++) {
		sum += map->pieces[i].len;
		if (map->pieces[i].offset + map->pieces[i].len >
			tar->entry.size_bytes)
			return damaged(
				tar, "a sparse map leads beyond its file", err);
	}
	if (sum != tar->stored_left)
		return damaged(
			tar, "a sparse map does not fit what is stored", err);
	return 0;
}

static int read_sparse(struct th_tar *tar, struct th_error *err)
{
	struct tar_pax *pax = &tar->own;

	if (tar->block[TYPE] == 'S') {
		if (read_old_sparse(tar, err))
			return -1;
	} else if (tar->own_given && pax->sparse_major) {
		if (pax->sparse_major != 1 || pax->sparse_minor != 0)
			return damaged(tar,
				"a sparse file has an unknown version", err);
		if (!pax->has_real_size)
			return damaged(tar, "a sparse file has no size", err);
		if (read_new_map(tar, err))
			return -1;
	} else if (!tar->own_given || !pax->map.given) {
		return 0;
	} else if (!pax->has_real_size ||
		(pax->has_parts && pax->parts != pax->map.count)) {
		return damaged(tar, "a sparse map is incomplete", err);
	}
	if (tar->block[TYPE] != 'S')
		tar->entry.size_bytes = pax->real_size;
	tar->entry.sparse = true;
	return check_map(tar, err);
}

/* ---- */

static int read_size(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	int64_t size;

	if (field(tar, SIZE, 12, 0, INT64_MAX - TAR_BLOCK, "size", &size, err))
		return -1;
	if (pax->has_size) {
		if (pax->size_bytes > INT64_MAX - TAR_BLOCK)
			return damaged(tar,
				"an extended header has a wrong size", err);
		size = (int64_t)pax->size_bytes;
	}
	tar->stored_left = (uint64_t)size;
	tar->padding = padding_of((uint64_t)size);
	/* For what is no file it is a hint at most, and nothing stands behind
	 * the header. */
	if (tar->entry.type != S_IFREG &&
		(tar->entry.type != S_IFDIR || tar->block[TYPE] == '5'))
		tar->stored_left = tar->padding = 0;
	if (tar->entry.type == S_IFDIR && tar->stored_left)
		return damaged(tar, "a file has the name of a folder", err);
	tar->entry.size_bytes =
		tar->entry.type == S_IFREG ? tar->stored_left : 0;
	return 0;
}

static int read_mode_and_time(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	int64_t mode, seconds;

	if (field(tar, MODE, 8, 0, INT64_MAX, "mode", &mode, err) ||
		field(tar, MTIME, 12, INT64_MIN / 2, INT64_MAX / 2, "time",
			&seconds, err))
		return -1;
	tar->entry.mode = (mode_t)mode & 07777;
	tar->entry.mtime.tv_sec = seconds;
	tar->entry.mtime.tv_nsec = 0;
	if (pax->has_mtime)
		tar->entry.mtime = pax->mtime;
	return 0;
}

static void list_attributes(struct th_tar *tar)
{
	const struct tar_pax *pax = said(tar);

	for (size_t i = 0; i < pax->attribute_count; i++) {
		struct th_tar_attribute *one = &tar->entry.attributes[i];

		one->name = pax->names.data + pax->attributes[i].name;
		one->value = pax->values.data + pax->attributes[i].value;
		one->len = pax->attributes[i].len;
	}
	tar->entry.attribute_count = pax->attribute_count;
}

static int read_entry(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	struct th_tar_entry *entry = &tar->entry;

	entry->device = 0;
	entry->sparse = false;
	if (read_names(tar, err) || read_type(tar, err) ||
		read_size(tar, err) || read_mode_and_time(tar, err) ||
		read_id(tar, UID, pax->has_uid, pax->uid, "user ID",
			&entry->uid, err) ||
		read_id(tar, GID, pax->has_gid, pax->gid, "group ID",
			&entry->gid, err))
		return -1;
	if (entry->type == S_IFREG && read_sparse(tar, err))
		return -1;
	list_attributes(tar);
	entry->name = tar->name.data;
	entry->link = entry->type == 0 || entry->type == S_IFLNK
		? tar->link.data
		: "";
	if (!entry->link)
		entry->link = "";
	entry->offset = tar->position;
	tar->in_entry = true;
	tar->done = tar->piece_done = 0;
	tar->piece = 0;
	return 0;
}

/* The header of the next entry, past those that are about it. 1, 0 at the
 * end, -1. */
static int find_header(struct th_tar *tar, struct th_error *err)
{
	for (;;) {
		int rc = read_block(tar, err);

		if (rc <= 0)
			return rc;
		if (all_zero(tar->block)) {
			/* Two of them end an archive; many end without. */
			rc = read_block(tar, err);
			if (rc == 1 && !all_zero(tar->block))
				return damaged(
					tar, "something follows its end", err);
			return rc < 0 ? -1 : 0;
		}
		if (!has_checksum(tar->block))
			return tar->position <= TAR_BLOCK
				? th_fail(err, TH_FAILED,
					  "it is not a tar archive")
				: damaged(tar, "a header has a wrong checksum",
					  err);
		rc = read_special(tar, err);
		if (rc < 0)
			return -1;
		if (rc == 0)
			return 1;
	}
}

static void forget_entry(struct th_tar *tar)
{
	tar->long_name.len = tar->long_link.len = 0;
	tar->own.map.count = 0;
	tar->own.map.given = tar->own_given = false;
}

int th_tar_next(struct th_tar *tar, const struct th_tar_entry **entry,
	struct th_error *err)
{
	int rc;

	if (tar->ended)
		return 0;
	if (pass_over(tar, tar->stored_left + tar->padding, err))
		return -1;
	tar->stored_left = tar->padding = 0;
	tar->in_entry = false;
	forget_entry(tar);
	rc = find_header(tar, err);
	if (rc == 0) {
		tar->ended = true;
		if (tar->own_given || tar->long_name.len || tar->long_link.len)
			rc = damaged(tar,
				"it ends where an entry should follow", err);
	}
	if (rc <= 0)
		return rc;
	if (read_entry(tar, err))
		return -1;
	*entry = &tar->entry;
	return 1;
}

int th_tar_data(struct th_tar *tar, const void **data, size_t *len,
	uint64_t *offset, struct th_error *err)
{
	const struct tar_map *map = &tar->own.map;
	uint64_t most = tar->stored_left;
	int rc;

	if (tar->entry.type != S_IFREG || most == 0)
		return 0;
	if (tar->entry.sparse) {
		while (tar->piece_done == map->pieces[tar->piece].len) {
			tar->piece++;
			tar->piece_done = 0;
		}
		*offset = map->pieces[tar->piece].offset + tar->piece_done;
		if (most > map->pieces[tar->piece].len - tar->piece_done)
			most = map->pieces[tar->piece].len - tar->piece_done;
	} else {
		*offset = tar->done;
	}
	rc = look(tar, err);
	if (rc <= 0)
		return rc < 0 ? -1 : truncated(tar, err);
	*len = most < tar->have_len ? (size_t)most : tar->have_len;
	*data = tar->have;
	use(tar, *len);
	tar->stored_left -= *len;
	tar->done += *len;
	tar->piece_done += *len;
	return 1;
}

/* ---- */

static ssize_t next_of_fd(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct fd_source *own = (struct fd_source *)(void *)source;
	ssize_t got;

	do
		got = read(own->fd, own->data, READ_BYTES);
	while (got < 0 && errno == EINTR);
	*data = own->data;
	return got < 0
		? th_fail_sys(err, TH_FAILED, errno, "cannot read the archive")
		: got;
}

struct th_tar *th_tar_new_fd(int fd)
{
	struct th_tar *tar = th_tar_new(NULL);
	struct stat st;

	if (!tar)
		return NULL;
	tar->source = &tar->own_source.source;
	tar->own_source.source.next = next_of_fd;
	tar->own_source.fd = fd;
	tar->own_source.size =
		fstat(fd, &st) == 0 && S_ISREG(st.st_mode) ? st.st_size : -1;
	tar->own_source.data = malloc(READ_BYTES);
	if (tar->own_source.data)
		return tar;
	th_tar_free(tar);
	return NULL;
}

struct th_tar *th_tar_new(struct th_source *source)
{
	struct th_tar *tar = calloc(1, sizeof(*tar));

	if (!tar)
		return NULL;
	tar->source = source;
	tar_pax_init(&tar->global);
	tar_pax_init(&tar->own);
	th_buf_init(&tar->long_name, TH_TAR_NAME_MAX);
	th_buf_init(&tar->long_link, TH_TAR_NAME_MAX);
	th_buf_init(&tar->name, TH_TAR_NAME_MAX + 256);
	th_buf_init(&tar->link, TH_TAR_NAME_MAX + 256);
	th_buf_init(&tar->extended, EXTENDED_MAX);
	return tar;
}

void th_tar_free(struct th_tar *tar)
{
	if (!tar)
		return;
	tar_pax_release(&tar->global);
	tar_pax_release(&tar->own);
	th_buf_release(&tar->long_name);
	th_buf_release(&tar->long_link);
	th_buf_release(&tar->name);
	th_buf_release(&tar->link);
	th_buf_release(&tar->extended);
	free(tar->own_source.data);
	free(tar);
}
