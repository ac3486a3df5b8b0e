/* Reading tar archives: ustar (POSIX.1-1988), pax (POSIX.1-2001, pax(1)
 * "Extended Description"), and GNU's long names, large numbers and sparse files
 * (tar(5)). Names are bytes and stay what they are. What breaks the format is
 * an error and never a guess, so that no two readers of an archive can be led
 * to different files. */
#ifndef TH_LAYER_TAR_H
#define TH_LAYER_TAR_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <time.h>

#include "base/cancel.h"
#include "base/source.h"

/* A path's and a link's longest; more than any kernel takes. */
#define TH_TAR_NAME_MAX 65536
#define TH_TAR_ATTRIBUTES_MAX 256

struct th_tar_attribute {
	const char *name;
	const void *value;
	size_t len;
};

struct th_tar_entry {
	const char *name; /* as the archive says it, never empty */
	const char *link; /* where a link leads, "" for others */
	mode_t type; /* S_IFREG, ...; that of a hard link is 0 */
	mode_t mode; /* permissions, 07777 */
	uid_t uid;
	gid_t gid;
	uint64_t size_bytes; /* of a file, holes included */
	struct timespec mtime;
	dev_t device;
	struct th_tar_attribute
		attributes[TH_TAR_ATTRIBUTES_MAX]; /* extended */
	size_t attribute_count;
	/* Where the data begins in the archive, and whether it lies there in
	 * one piece, byte by byte. */
	uint64_t offset;
	bool sparse;
};

struct th_tar; /* opaque */

/* Reads from source (borrowed). NULL without memory. */
struct th_tar *th_tar_new(struct th_source *source);

/* The same from a descriptor (borrowed), from where it stands. What is passed
 * over in a regular file is not read. A cancelled wait for a pipe is TH_FAILED.
 */
struct th_tar *th_tar_new_fd(int fd, struct th_cancel cancel);

/* The next entry; what is left of the last one's data is passed over. 1, or 0
 * at the end, -1 with the error. *entry is valid until the next call. */
int th_tar_next(struct th_tar *tar, const struct th_tar_entry **entry,
	struct th_error *err);

/* The next piece of the entry's data and where in the file it belongs; what is
 * left out in between is a hole. 1, 0 at its end, -1. Valid until the next
 * call. */
int th_tar_data(struct th_tar *tar, const void **data, size_t *len,
	uint64_t *offset, struct th_error *err);

void th_tar_free(struct th_tar *tar);

#endif
