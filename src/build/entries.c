#include "build/entries.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "layer/difference.h"
#include "layer/links.h"

#define ATTRIBUTES_BYTES (16u << 20)
#define READ_BYTES (256 * 1024)

struct th_put_entry *th_put_entries_add(struct th_put_entries *entries)
{
	void *list = entries->list;
	struct th_put_entry *entry =
		th_grow(&list, entries->count, sizeof(*entry));

	if (!entry)
		return NULL;
	entries->list = list;
	entries->count++;
	memset(entry, 0, sizeof(*entry));
	entry->folder = -1;
	return entry;
}

static void entry_release(struct th_put_entry *entry)
{
	free(entry->path);
	free(entry->link);
	free(entry->source);
}

void th_put_entries_release(struct th_put_entries *entries)
{
	for (size_t i = 0; i < entries->count; i++)
		entry_release(&entries->list[i]);
	free(entries->list);
	entries->list = NULL;
	entries->count = 0;
}

/* ---- order ---- */

/* What lies in a folder stands behind it, before its neighbours. */
static int compare_paths(const char *one, const char *other)
{
	const unsigned char *a = (const unsigned char *)one;
	const unsigned char *b = (const unsigned char *)other;
	int at, to;

	while (*a && *a == *b) {
		a++;
		b++;
	}
	at = *a == '/' ? 1 : *a ? *a + 1 : 0;
	to = *b == '/' ? 1 : *b ? *b + 1 : 0;
	return at - to;
}

struct keyed {
	struct th_put_entry entry;
	size_t number;
};

static int compare_entries(const void *one, const void *other)
{
	const struct keyed *a = one, *b = other;
	int order = compare_paths(a->entry.path, b->entry.path);

	if (order)
		return order;
	return a->number < b->number ? -1 : a->number > b->number;
}

/* Of those with one path the last one stays; a folder on the way to others
 * only where there is no other. */
static void drop_repeated(struct th_put_entries *entries)
{
	struct th_put_entry *list = entries->list;
	size_t kept = 0;

	for (size_t i = 1; i < entries->count; i++) {
		if (strcmp(list[i].path, list[kept].path) != 0) {
			list[++kept] = list[i];
		} else if (list[i].implied && S_ISDIR(list[kept].mode)) {
			entry_release(&list[i]);
		} else {
			entry_release(&list[kept]);
			list[kept] = list[i];
		}
	}
	if (entries->count)
		entries->count = kept + 1;
}

static int sort(struct th_put_entries *entries, struct th_error *err)
{
	struct keyed *keyed = malloc((entries->count + 1) * sizeof(*keyed));

	if (!keyed)
		return th_fail_memory(err);
	for (size_t i = 0; i < entries->count; i++) {
		keyed[i].entry = entries->list[i];
		keyed[i].number = i;
	}
	qsort(keyed, entries->count, sizeof(*keyed), compare_entries);
	for (size_t i = 0; i < entries->count; i++)
		entries->list[i] = keyed[i].entry;
	free(keyed);
	drop_repeated(entries);
	return 0;
}

/* ---- folders on the way ---- */

static int add_folder(struct th_put_entries *entries, struct th_view *below,
	const char *path, size_t len, struct th_error *err)
{
	struct th_put_entry *entry = th_put_entries_add(entries);
	struct th_sight found;
	int rc;

	if (entry)
		entry->path = strndup(path, len);
	if (!entry || !entry->path)
		return th_fail_memory(err);
	entry->implied = true;
	entry->mode = S_IFDIR | 0755;
	entry->mtime = entries->newest;
	rc = below ? th_view_look(below, entry->path, &found, err) : 0;
	if (rc <= 0)
		return rc;
	if (S_ISDIR(found.st.st_mode)) {
		entry->mode = found.st.st_mode;
		entry->uid = found.st.st_uid;
		entry->gid = found.st.st_gid;
		entry->mtime = found.st.st_mtim;
		entry->attributes = true;
		entry->view = below;
		entry->source = strdup(entry->path);
		rc = entry->source ? 0 : th_fail_memory(err);
	} else {
		rc = th_fail(err, TH_USAGE, "/%.200s is no folder in the image",
			entry->path);
	}
	th_close(&found.fd);
	return rc < 0 ? -1 : 0;
}

/* How many bytes the two have in common that are whole parts of a path. */
static size_t common_folder(const char *before, const char *path)
{
	size_t len = 0;

	for (size_t i = 0; path[i]; i++) {
		if (path[i] == '/' && (before[i] == '/' || !before[i]))
			len = i;
		if (before[i] != path[i])
			break;
	}
	return len;
}

int th_put_entries_finish(struct th_put_entries *entries, struct th_view *below,
	struct th_error *err)
{
	size_t count;
	const char *before = "";

	if (sort(entries, err))
		return -1;
	count = entries->count;
	for (size_t i = 0; i < count; i++) {
		char *path = strdup(entries->list[i].path);
		size_t known = path ? common_folder(before, path) : 0;
		int rc = path ? 0 : th_fail_memory(err);

		for (size_t at = known; rc == 0 && path[at]; at++) {
			if (path[at] == '/' && at > 0 && at != known)
				rc = add_folder(entries, below, path, at, err);
		}
		free(path);
		if (rc)
			return -1;
		before = entries->list[i].path;
	}
	return sort(entries, err);
}

/* ---- writing ---- */

static int fail_source(const struct th_put_entry *entry, struct th_error *err)
{
	return th_fail_sys(err, TH_FAILED, errno, "cannot read %.300s",
		entry->source ? entry->source : entry->path);
}

/* Opens what the entry's data and attributes come from; -1 with the error, -2
 * where there is nothing to open. */
static int open_source(const struct th_put_entry *entry, struct th_error *err)
{
	char path[TH_FD_PATH];
	struct th_sight found;
	int fd;

	if (!S_ISREG(entry->mode) && !S_ISDIR(entry->mode))
		return -2;
	if (entry->view) {
		if (th_view_look(entry->view, entry->source, &found, err) != 1)
			return err->code ? -1
					 : th_fail(err, TH_FAILED,
						   "%.300s has gone meanwhile",
						   entry->source);
		fd = open(th_fd_path(found.fd, "", path), O_RDONLY | O_CLOEXEC);
		th_close(&found.fd);
		return fd < 0 ? fail_source(entry, err) : fd;
	}
	if (entry->folder < 0)
		return -2;
	fd = th_path_open_within(
		entry->folder, entry->source, O_RDONLY | O_NONBLOCK);
	return fd < 0 ? fail_source(entry, err) : fd;
}

/* A further name of a file that is written: 1, 0, -1. */
static int write_link(const struct th_put_entry *from, struct th_links *links,
	struct th_tar_entry *entry, struct th_tar_out *out,
	struct th_error *err)
{
	const char *first = NULL;
	int rc = from->has_links
		? th_links_look(links, from->device, from->number, from->path,
			  &first, err)
		: 0;

	if (rc <= 0)
		return rc;
	entry->type = 0;
	entry->link = first;
	return th_tar_out_entry(out, entry, NULL, 0, err) ? -1 : 1;
}

static int write_entry(const struct th_put_entries *entries,
	const struct th_put_entry *from, struct th_links *links,
	struct th_tar_out *out, struct th_buf *attributes, struct th_error *err)
{
	const struct timespec *newest = &entries->newest;
	struct th_tar_entry entry = {.name = from->path,
		.link = from->link ? from->link : "",
		.type = from->mode & S_IFMT,
		.mode = from->mode & 07777,
		.uid = from->uid,
		.gid = from->gid,
		.mtime = from->mtime};
	int fd, rc;
	struct stat st;

	if (newest->tv_sec >= 0 &&
		(entry.mtime.tv_sec > newest->tv_sec ||
			(entry.mtime.tv_sec == newest->tv_sec &&
				entry.mtime.tv_nsec > newest->tv_nsec)))
		entry.mtime = *newest;
	rc = write_link(from, links, &entry, out, err);
	if (rc)
		return rc < 0 ? -1 : 0;
	fd = open_source(from, err);
	if (fd == -1)
		return -1;
	/* What was seen may be something else by now. */
	if (fd >= 0 &&
		(fstat(fd, &st) ||
			(st.st_mode & S_IFMT) != (from->mode & S_IFMT)))
		rc = th_fail(err, TH_FAILED,
			"%.300s has changed while it was put",
			from->source ? from->source : from->path);
	if (rc == 0 && fd >= 0 && from->attributes)
		rc = th_layer_read_attributes(fd, &entry, attributes, err);
	if (rc == 0)
		rc = th_layer_put_file(out, &entry,
			S_ISREG(from->mode) ? fd : -1, from->path,
			TH_LAYER_HOLE, entries->cancel, err);
	if (fd >= 0)
		th_close(&fd);
	return rc;
}

int th_put_entries_write(const struct th_put_entries *entries,
	struct th_tar_out *out, struct th_error *err)
{
	struct th_links links = {NULL};
	struct th_buf attributes;
	int rc = 0;

	th_buf_init(&attributes, ATTRIBUTES_BYTES);
	for (size_t i = 0; rc == 0 && i < entries->count; i++)
		rc = write_entry(entries, &entries->list[i], &links, out,
			&attributes, err);
	th_links_release(&links);
	th_buf_release(&attributes);
	return rc;
}

/* ---- the digest ---- */

static int add_file(struct th_hash *hash, int fd, char *buffer,
	const struct th_put_entry *entry, struct th_cancel cancel,
	struct th_error *err)
{
	uint64_t total = 0;
	ssize_t got;

	while ((got = read(fd, buffer, READ_BYTES)) != 0) {
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			return fail_source(entry, err);
		if (th_cancelled(cancel))
			return th_fail(err, TH_FAILED, "it was interrupted");
		th_hash_add(hash, buffer, (size_t)got);
		total += (uint64_t)got;
	}
	th_hash_add(hash, &total, sizeof(total));
	return 0;
}

int th_put_entries_digest(const struct th_put_entries *entries,
	char digest[TH_HASH_TEXT], struct th_error *err)
{
	struct th_hash *hash = th_hash_new(NULL);
	char *buffer = malloc(READ_BYTES);
	int rc = hash && buffer ? 0 : th_fail_memory(err);

	for (size_t i = 0; rc == 0 && i < entries->count; i++) {
		const struct th_put_entry *entry = &entries->list[i];
		char line[100];
		int fd;

		snprintf(line, sizeof(line), "%o %u %u %zu",
			(unsigned int)entry->mode, (unsigned int)entry->uid,
			(unsigned int)entry->gid, strlen(entry->path));
		th_hash_add(hash, line, strlen(line) + 1);
		th_hash_add(hash, entry->path, strlen(entry->path));
		if (entry->link)
			th_hash_add(hash, entry->link, strlen(entry->link) + 1);
		if (!S_ISREG(entry->mode))
			continue;
		fd = open_source(entry, err);
		rc = fd < 0 ? -1
			    : add_file(hash, fd, buffer, entry, entries->cancel,
				      err);
		if (fd >= 0)
			th_close(&fd);
	}
	if (rc == 0)
		th_hash_digest(hash, digest);
	th_hash_free(hash);
	free(buffer);
	return rc;
}
