#include <errno.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/file.h"
#include "layer/tar_parts.h"

/* The header's fields (tar(5)). */
#define NAME 0
#define NAME_LEN 100
#define MODE 100
#define UID 108
#define GID 116
#define SIZE 124
#define MTIME 136
#define LINK 157
#define MAGIC 257
#define MAJOR 329
#define MINOR 337
#define PREFIX 345
#define PREFIX_LEN 155

#define EXTENDED_MAX (16u << 20)
/* The last value that is no ID: it means "unchanged" to chown(2). */
#define ID_MAX 4294967294u

#define READ_BYTES (256 * 1024)

/* ---- bytes ---- */

int tar_truncated(const struct th_tar *tar, struct th_error *err)
{
	if (!tar->in_entry)
		return th_fail(err, TH_FAILED, "the archive is truncated");
	return th_fail(err, TH_FAILED,
		"the archive is truncated in the entry \"%.200s\"",
		tar->entry.name);
}

int tar_damaged(const struct th_tar *tar, const char *why, struct th_error *err)
{
	return th_fail(err, TH_FAILED,
		"the archive is damaged at byte %" PRIu64 ": %s", tar->position,
		why);
}

/* Sees to it that a byte is at hand. 1, 0 at the end, -1. */
int tar_look(struct th_tar *tar, struct th_error *err)
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

void tar_use(struct th_tar *tar, size_t len)
{
	tar->have += len;
	tar->have_len -= len;
	tar->position += len;
}

/* 1, 0 where nothing is left, -1. */
int tar_read_block(struct th_tar *tar, struct th_error *err)
{
	size_t have = 0;

	while (have < TAR_BLOCK) {
		size_t len = TAR_BLOCK - have;
		int rc = tar_look(tar, err);

		if (rc < 0)
			return -1;
		if (rc == 0)
			return have ? tar_truncated(tar, err) : 0;
		if (len > tar->have_len)
			len = tar->have_len;
		memcpy(tar->block + have, tar->have, len);
		tar_use(tar, len);
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

int tar_pass_over(struct th_tar *tar, uint64_t len, struct th_error *err)
{
	len -= skip(tar, len);
	while (len > 0) {
		size_t step;
		int rc = tar_look(tar, err);

		if (rc <= 0)
			return rc < 0 ? -1 : tar_truncated(tar, err);
		step = len < tar->have_len ? (size_t)len : tar->have_len;
		tar_use(tar, step);
		len -= step;
	}
	return 0;
}

uint64_t tar_padding(uint64_t size)
{
	return (TAR_BLOCK - size % TAR_BLOCK) % TAR_BLOCK;
}

/* ---- fields ---- */

int tar_field(struct th_tar *tar, size_t at, size_t len, int64_t least,
	int64_t most, const char *what, int64_t *value, struct th_error *err)
{
	char why[80];

	if (tar_number(tar->block + at, len, value) && *value >= least &&
		*value <= most)
		return 0;
	snprintf(why, sizeof(why), "a header has a wrong %s", what);
	return tar_damaged(tar, why, err);
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

	if (tar_field(tar, SIZE, 12, 0, INT64_MAX, "size", &size, err))
		return -1;
	if ((uint64_t)size > most)
		return tar_damaged(tar, "an extended header is too long", err);
	tar->extended.len = 0;
	for (left = (size_t)size; left > 0;) {
		size_t len;
		int rc = tar_look(tar, err);

		if (rc <= 0)
			return rc < 0 ? -1 : tar_truncated(tar, err);
		len = left < tar->have_len ? left : tar->have_len;
		th_buf_add(&tar->extended, tar->have, len);
		tar_use(tar, len);
		left -= len;
	}
	if (tar->extended.failed)
		return th_fail_memory(err);
	return tar_pass_over(tar, tar_padding((uint64_t)size), err);
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
		return tar_damaged(tar, "a long name is malformed", err);
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

	switch (tar->block[TAR_TYPE]) {
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
			rc = tar_damaged(tar,
				"a sparse file's parts are given for all "
				"files",
				err);
		break;
	case 'V': /* the archive's own name */
		rc = tar_field(tar, SIZE, 12, 0, INT64_MAX, "size", &size, err);
		if (rc == 0)
			rc = tar_pass_over(tar,
				(uint64_t)size + tar_padding((uint64_t)size),
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
	return tar->name.len ? 0
			     : tar_damaged(tar, "an entry has no name", err);
}

static int read_id(struct th_tar *tar, size_t at, bool given, uint64_t said_id,
	const char *what, unsigned int *id, struct th_error *err)
{
	char why[80];
	int64_t value;

	if (!given) {
		if (tar_field(tar, at, 8, 0, ID_MAX, what, &value, err))
			return -1;
		*id = (unsigned int)value;
		return 0;
	}
	*id = (unsigned int)said_id;
	if (said_id <= ID_MAX)
		return 0;
	snprintf(why, sizeof(why), "an extended header has a wrong %s", what);
	return tar_damaged(tar, why, err);
}

static int read_device(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	int64_t numbers[2];

	if (tar_field(
		    tar, MAJOR, 8, 0, UINT32_MAX, "device", &numbers[0], err) ||
		tar_field(tar, MINOR, 8, 0, UINT32_MAX, "device", &numbers[1],
			err))
		return -1;
	if (pax->has_major)
		numbers[0] = (int64_t)pax->major;
	if (pax->has_minor)
		numbers[1] = (int64_t)pax->minor;
	if (numbers[0] < 0 || numbers[0] > UINT32_MAX || numbers[1] < 0 ||
		numbers[1] > UINT32_MAX)
		return tar_damaged(tar, "a device has a wrong number", err);
	tar->entry.device =
		makedev((unsigned int)numbers[0], (unsigned int)numbers[1]);
	return 0;
}

static int read_type(struct th_tar *tar, struct th_error *err)
{
	char type = tar->block[TAR_TYPE], why[80];

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
		return tar_damaged(tar, why, err);
	}
}

/* ---- */

static int read_size(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	int64_t size;

	if (tar_field(tar, SIZE, 12, 0, INT64_MAX - TAR_BLOCK, "size", &size,
		    err))
		return -1;
	if (pax->has_size) {
		if (pax->size_bytes > INT64_MAX - TAR_BLOCK)
			return tar_damaged(tar,
				"an extended header has a wrong size", err);
		size = (int64_t)pax->size_bytes;
	}
	tar->stored_left = (uint64_t)size;
	tar->padding = tar_padding((uint64_t)size);
	/* For what is no file it is a hint at most, and nothing stands behind
	 * the header. */
	if (tar->entry.type != S_IFREG &&
		(tar->entry.type != S_IFDIR || tar->block[TAR_TYPE] == '5'))
		tar->stored_left = tar->padding = 0;
	if (tar->entry.type == S_IFDIR && tar->stored_left)
		return tar_damaged(tar, "a file has the name of a folder", err);
	tar->entry.size_bytes =
		tar->entry.type == S_IFREG ? tar->stored_left : 0;
	return 0;
}

static int read_mode_and_time(struct th_tar *tar, struct th_error *err)
{
	const struct tar_pax *pax = said(tar);
	int64_t mode, seconds;

	if (tar_field(tar, MODE, 8, 0, INT64_MAX, "mode", &mode, err) ||
		tar_field(tar, MTIME, 12, INT64_MIN / 2, INT64_MAX / 2, "time",
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
	if (entry->type == S_IFREG && tar_read_sparse(tar, err))
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
		int rc = tar_read_block(tar, err);

		if (rc <= 0)
			return rc;
		if (tar_is_zero(tar->block)) {
			/* Two of them end an archive; many end without. */
			rc = tar_read_block(tar, err);
			if (rc == 1 && !tar_is_zero(tar->block))
				return tar_damaged(
					tar, "something follows its end", err);
			return rc < 0 ? -1 : 0;
		}
		if (!tar_has_checksum(tar->block))
			return tar->position <= TAR_BLOCK
				? th_fail(err, TH_FAILED,
					  "it is not a tar archive")
				: tar_damaged(tar,
					  "a header has a wrong checksum", err);
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
	if (tar_pass_over(tar, tar->stored_left + tar->padding, err))
		return -1;
	tar->stored_left = tar->padding = 0;
	tar->in_entry = false;
	forget_entry(tar);
	rc = find_header(tar, err);
	if (rc == 0) {
		tar->ended = true;
		if (tar->own_given || tar->long_name.len || tar->long_link.len)
			rc = tar_damaged(tar,
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
	rc = tar_look(tar, err);
	if (rc <= 0)
		return rc < 0 ? -1 : tar_truncated(tar, err);
	*len = most < tar->have_len ? (size_t)most : tar->have_len;
	*data = tar->have;
	tar_use(tar, *len);
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

	if (own->size < 0 && !th_fd_wait(own->fd, own->cancel))
		return th_fail(err, TH_FAILED, "reading was interrupted");
	do
		got = read(own->fd, own->data, READ_BYTES);
	while (got < 0 && errno == EINTR);
	*data = own->data;
	return got < 0
		? th_fail_sys(err, TH_FAILED, errno, "cannot read the archive")
		: got;
}

struct th_tar *th_tar_new_fd(int fd, struct th_cancel cancel)
{
	struct th_tar *tar = th_tar_new(NULL);
	struct stat st;

	if (!tar)
		return NULL;
	tar->source = &tar->own_source.source;
	tar->own_source.source.next = next_of_fd;
	tar->own_source.fd = fd;
	tar->own_source.cancel = cancel;
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
