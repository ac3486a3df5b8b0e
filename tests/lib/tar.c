#include "lib/tar.h"

#include <stdlib.h>
#include <string.h>

static la_ssize_t take(
	struct archive *archive, void *owner, const void *data, size_t len)
{
	(void)archive;
	th_buf_add(owner, data, len);
	return (la_ssize_t)len;
}

void tar_make(struct th_buf *tar, const struct tar_entry *entries)
{
	struct archive *archive = archive_write_new();

	archive_write_set_format_pax(archive);
	archive_write_open(archive, tar, NULL, take, NULL);
	for (; entries->name; entries++) {
		struct archive_entry *entry = archive_entry_new();
		size_t len = entries->data ? strlen(entries->data) : 0;

		archive_entry_set_pathname(entry, entries->name);
		archive_entry_set_perm(entry, (mode_t)entries->mode);
		archive_entry_set_uid(entry, entries->uid);
		archive_entry_set_mtime(entry, 1772323200, 500);
		if (entries->type == 0) {
			archive_entry_set_filetype(entry, AE_IFREG);
			archive_entry_set_hardlink(entry, entries->data);
			len = 0;
		} else {
			archive_entry_set_filetype(entry, entries->type);
		}
		if (entries->type == AE_IFLNK)
			archive_entry_set_symlink(entry, entries->data);
		if (entries->type == AE_IFREG)
			archive_entry_set_size(entry, (la_int64_t)len);
		/* A file capability: CAP_NET_RAW, effective and permitted
		 * (linux/capability.h, version 2). */
		if (entries->xattr &&
			strcmp(entries->xattr, "security.capability") == 0)
			archive_entry_xattr_add_entry(entry, entries->xattr,
				"\1\0\0\2\0\40\0\0\0\0\0\0\0\0\0\0\0\0\0", 20);
		else if (entries->xattr)
			archive_entry_xattr_add_entry(
				entry, entries->xattr, "value", 5);
		if (entries->type == AE_IFCHR || entries->type == AE_IFBLK) {
			archive_entry_set_rdevmajor(entry, 1);
			archive_entry_set_rdevminor(entry, 5);
		}
		archive_write_header(archive, entry);
		if (entries->type == AE_IFREG && len)
			archive_write_data(archive, entries->data, len);
		archive_entry_free(entry);
	}
	archive_write_close(archive);
	archive_write_free(archive);
}

static ssize_t next(
	struct th_source *base, const void **data, struct th_error *err)
{
	struct tar_source *source = (struct tar_source *)(void *)base;
	size_t len = source->len < source->piece ? source->len : source->piece;

	(void)err;
	*data = source->data;
	source->data += len;
	source->len -= len;
	return (ssize_t)len;
}

void tar_source_init(
	struct tar_source *source, const char *data, size_t len, size_t piece)
{
	source->source.next = next;
	source->data = data;
	source->len = len;
	source->piece = piece;
}
