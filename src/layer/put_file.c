/* One file's data and attributes, on their way into a layer's archive. */
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "layer/attributes.h"
#include "layer/difference.h"

#define READ_BYTES (256 * 1024)
#define LIST_MAX 65536
#define VALUE_MAX 65536
/* ---- attributes ---- */

static int compare_names(const void *one, const void *other)
{
	return strcmp(*(const char *const *)one, *(const char *const *)other);
}

/* The names that count, sorted, in list. */
static int list_names(const char *path, char *list,
	const char *names[TH_TAR_ATTRIBUTES_MAX], size_t *count)
{
	ssize_t len = listxattr(path, list, LIST_MAX);

	*count = 0;
	if (len < 0)
		return errno == ENOTSUP ? 0 : -1;
	for (char *at = list; at < list + len; at += strlen(at) + 1) {
		if (!th_layer_wants_attribute(at))
			continue;
		if (*count == TH_TAR_ATTRIBUTES_MAX) {
			errno = E2BIG;
			return -1;
		}
		names[(*count)++] = at;
	}
	qsort(names, *count, sizeof(*names), compare_names);
	return 0;
}

static int read_values(const char *path, const char *const *names, size_t count,
	size_t *places, struct th_tar_entry *entry, struct th_buf *storage)
{
	for (size_t i = 0; i < count; i++) {
		struct th_tar_attribute *one = &entry->attributes[i];
		char *room;
		ssize_t len;

		places[2 * i] = storage->len;
		th_buf_add(storage, names[i], strlen(names[i]) + 1);
		places[2 * i + 1] = storage->len;
		room = th_buf_room(storage, VALUE_MAX);
		len = room ? getxattr(path, names[i], room, VALUE_MAX) : -1;
		if (len < 0)
			return -1;
		storage->len += (size_t)len;
		one->len = (size_t)len;
	}
	return storage->failed ? -1 : 0;
}

int th_layer_read_attributes(int fd, struct th_tar_entry *entry,
	struct th_buf *storage, struct th_error *err)
{
	const char *names[TH_TAR_ATTRIBUTES_MAX];
	size_t places[2 * TH_TAR_ATTRIBUTES_MAX], count = 0;
	char path[TH_FD_PATH], list[LIST_MAX];
	int rc;

	th_fd_path(fd, "", path);
	storage->len = 0;
	rc = list_names(path, list, names, &count);
	if (rc == 0)
		rc = read_values(path, names, count, places, entry, storage);
	if (rc)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot read the extended attributes of %.300s",
			entry->name);
	/* Only now the storage stays where it is. */
	for (size_t i = 0; i < count; i++) {
		entry->attributes[i].name = storage->data + places[2 * i];
		entry->attributes[i].value = storage->data + places[2 * i + 1];
	}
	entry->attribute_count = count;
	return 0;
}

/* ---- data ---- */

static int add_range(struct th_tar_parts *parts, off_t at, off_t end)
{
	return th_tar_parts_add(parts, (uint64_t)at, (uint64_t)(end - at));
}

/* What lies between large holes. */
static int find_parts(
	struct th_tar_parts *parts, int fd, off_t size, off_t step)
{
	off_t at = 0, begin = 0, end = 0, data, hole;

	for (; th_file_next_data(fd, at, size, &data, &hole); at = hole) {
		data -= data % step;
		hole += (step - hole % step) % step;
		if (hole > size)
			hole = size;
		if (data > end && end > begin && add_range(parts, begin, end))
			return -1;
		if (data > end)
			begin = data;
		end = hole;
	}
	if (end > begin && add_range(parts, begin, end))
		return -1;
	/* A file that is nothing but a hole has parts, too. */
	return end < size ? add_range(parts, size, size) : 0;
}

/* The header has said how long it is. */
static int put_range(struct th_tar_out *out, int fd, const char *path,
	const struct th_tar_part *part, char *buffer, struct th_cancel cancel,
	struct th_error *err)
{
	uint64_t at = part->offset, end = at + part->len;

	while (at < end) {
		size_t want =
			end - at < READ_BYTES ? (size_t)(end - at) : READ_BYTES;
		ssize_t got = pread(fd, buffer, want, (off_t)at);

		if (got < 0 && errno == EINTR)
			continue;
		if (th_cancelled(cancel))
			return th_fail(err, TH_FAILED, "it was interrupted");
		if (got < 0)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot read %.300s", path);
		if (got == 0)
			return th_fail(err, TH_FAILED,
				"%.300s has become shorter while it was read",
				path);
		if (th_tar_out_data(out, buffer, (size_t)got, err))
			return -1;
		at += (uint64_t)got;
		th_work_add(cancel.work, (uint64_t)got);
	}
	return 0;
}

int th_layer_put_file(struct th_tar_out *out, struct th_tar_entry *entry,
	int fd, const char *path, off_t step, struct th_cancel cancel,
	struct th_error *err)
{
	struct th_tar_parts parts = {0};
	char *buffer = NULL;
	struct stat st;
	bool sparse;
	int rc;

	if (fd < 0)
		return th_tar_out_entry(out, entry, NULL, 0, err);
	if (fstat(fd, &st))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read %.300s", path);
	entry->size_bytes = (uint64_t)st.st_size;
	sparse = st.st_size >= step && (off_t)st.st_blocks * 512 < st.st_size;
	rc = sparse ? find_parts(&parts, fd, st.st_size, step)
		    : add_range(&parts, 0, st.st_size);
	sparse = sparse &&
		(parts.count != 1 || parts.items[0].offset ||
			parts.items[0].len != entry->size_bytes);
	buffer = malloc(READ_BYTES);
	rc = rc || !buffer
		? th_fail_memory(err)
		: th_tar_out_entry(out, entry, sparse ? parts.items : NULL,
			  parts.count, err);
	for (size_t i = 0; rc == 0 && i < parts.count; i++)
		rc = put_range(
			out, fd, path, &parts.items[i], buffer, cancel, err);
	free(parts.items);
	free(buffer);
	return rc;
}
