/* Blobs of the store's OCI image layout: files named by their digests. */
#ifndef TH_STORE_BLOB_H
#define TH_STORE_BLOB_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/hash.h"
#include "oci/digest.h"
#include "store/store.h"

/* True where the blob is there with that size. */
bool th_blob_there(
	const struct th_store *store, const char *digest, uint64_t size_bytes);
/* Opens it for reading; -1 with an error. */
int th_blob_open(
	const struct th_store *store, const char *digest, struct th_error *err);
/* Reads a small one (up to the buffer's limit) and checks its digest. */
int th_blob_read(const struct th_store *store, const char *digest,
	struct th_buf *buf, struct th_error *err);
int th_blob_remove(
	const struct th_store *store, const char *digest, struct th_error *err);

/* Of a blob or config whose digest is another one: it may come from a registry,
 * or from a file. */
#define TH_BLOB_CHANGED                                                        \
	"where it came from is damaged, or it was changed on the way; "        \
	"nothing "                                                             \
	"was kept"

/* A blob that is being written: below tmp/ (hold the store meanwhile), under
 * its name only when its digest was right. */
struct th_blob_writer {
	int fd;
	char path[64];
	struct th_hash *hash;
	uint64_t size_bytes;
	bool unsynced; /* may be set after the begin: it need not last */
};

/* digest: the one that it is to have. */
int th_blob_begin(struct th_store *store, struct th_blob_writer *writer,
	const char *digest, struct th_error *err);
int th_blob_add(struct th_blob_writer *writer, const void *data, size_t len,
	struct th_error *err);
/* Checks digest and size (what: for the message) and puts it in its place. */
int th_blob_commit(struct th_store *store, struct th_blob_writer *writer,
	const char *digest, uint64_t size_bytes, const char *what,
	struct th_error *err);
/* Throws it away; also right after a commit, where it does nothing. */
void th_blob_discard(struct th_store *store, struct th_blob_writer *writer);

#endif
