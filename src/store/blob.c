#include "store/blob.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/random.h"

#define PATH_BYTES (TH_DIGEST_PATH + 16)

static void blob_path(const char *digest, char path[PATH_BYTES])
{
	char blob[TH_DIGEST_PATH];

	snprintf(path, PATH_BYTES, "images/blobs/%s",
		th_digest_path(digest, blob));
}

bool th_blob_there(
	const struct th_store *store, const char *digest, uint64_t size_bytes)
{
	struct stat st;
	char path[PATH_BYTES];

	blob_path(digest, path);
	/* A lender's is behind a link. */
	return fstatat(store->root_fd, path, &st, th_store_stat_links(store)) ==
		0 &&
		S_ISREG(st.st_mode) && (uint64_t)st.st_size == size_bytes;
}

int th_blob_open(
	const struct th_store *store, const char *digest, struct th_error *err)
{
	char path[PATH_BYTES];
	int fd;

	blob_path(digest, path);
	/* Whatever has the name by now, it is not waited for. */
	fd = openat(store->root_fd, path,
		O_RDONLY | O_CLOEXEC | O_NONBLOCK | th_store_links(store));
	if (fd < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot open the blob %s of the store", digest);
	return fd;
}

int th_blob_read(const struct th_store *store, const char *digest,
	struct th_buf *buf, struct th_error *err)
{
	char path[PATH_BYTES], found[TH_DIGEST_TEXT];
	int rc;

	blob_path(digest, path);
	rc = th_file_read_regular(store->root_fd, path, buf, err);
	if (rc == 0)
		return th_fail(err, TH_FAILED,
			"the blob %s is missing from the store", digest);
	if (rc < 0)
		return -1;
	if (th_hash_like(digest, buf->data, buf->len, found))
		return th_fail_memory(err);
	if (strcmp(found, digest) != 0) {
		th_fail(err, TH_FAILED, "the blob %s in the store is damaged",
			digest);
		return th_hint(err, "remove the image and pull it again");
	}
	return 0;
}

int th_blob_remove(
	const struct th_store *store, const char *digest, struct th_error *err)
{
	char path[PATH_BYTES];

	blob_path(digest, path);
	if (unlinkat(store->root_fd, path, 0) == 0 || errno == ENOENT)
		return 0;
	/* Somebody has put a folder in its place. */
	if (errno == EISDIR)
		return th_tree_remove(store->root_fd, path, err);
	return th_fail_sys(
		err, TH_FAILED, errno, "cannot remove the blob %s", digest);
}

int th_blob_begin(struct th_store *store, struct th_blob_writer *writer,
	const char *digest, struct th_error *err)
{
	char id[TH_ID_LENGTH + 1];

	memset(writer, 0, sizeof(*writer));
	writer->fd = -1;
	writer->hash = th_hash_new(digest);
	if (!writer->hash)
		return th_fail_memory(err);
	th_id_new(id);
	snprintf(writer->path, sizeof(writer->path), "tmp/%s.blob", id);
	writer->fd = openat(store->root_fd, writer->path,
		O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
	if (writer->fd < 0)
		return th_fail_write(
			err, errno, "cannot write to %s", store->root);
	return 0;
}

int th_blob_add(struct th_blob_writer *writer, const void *data, size_t len,
	struct th_error *err)
{
	th_hash_add(writer->hash, data, len);
	writer->size_bytes += len;
	if (th_write_all(writer->fd, data, len) == 0)
		return 0;
	return th_fail_write(err, errno, "cannot write a blob");
}

int th_blob_commit(struct th_store *store, struct th_blob_writer *writer,
	const char *digest, uint64_t size_bytes, const char *what,
	struct th_error *err)
{
	char found[TH_DIGEST_TEXT], path[PATH_BYTES];

	if (writer->size_bytes != size_bytes)
		return th_fail(err, TH_NETWORK,
			"%s has %" PRIu64 " bytes instead of the %" PRIu64
			" that the manifest says",
			what, writer->size_bytes, size_bytes);
	th_hash_digest(writer->hash, found);
	if (strcmp(found, digest) != 0) {
		th_fail(err, TH_NETWORK,
			"%s does not match the manifest: its digest is %s "
			"instead of %s",
			what, found, digest);
		return th_hint(err, TH_BLOB_CHANGED);
	}
	blob_path(digest, path);
	/* Synced before the rename: after a power cut the name must not lead to
	 * an empty file. */
	if ((!writer->unsynced && fdatasync(writer->fd)) ||
		renameat(store->root_fd, writer->path, store->root_fd, path))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot store the blob %s", digest);
	writer->path[0] = '\0';
	return 0;
}

void th_blob_discard(struct th_store *store, struct th_blob_writer *writer)
{
	if (writer->path[0])
		unlinkat(store->root_fd, writer->path, 0);
	writer->path[0] = '\0';
	th_close(&writer->fd);
	th_hash_free(writer->hash);
	writer->hash = NULL;
}
