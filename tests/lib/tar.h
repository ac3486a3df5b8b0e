/* Archives made in memory, honest and hostile ones. */
#ifndef TESTS_TAR_H
#define TESTS_TAR_H

#include <archive.h>
#include <archive_entry.h>

#include "base/buffer.h"
#include "base/source.h"

struct tar_entry {
	const char *name;
	unsigned int type; /* AE_IFREG, ... ; 0: a hard link */
	int mode;
	const char *data; /* content, or where a link leads */
	int uid;
	const char *xattr; /* a name; its value is "value" */
};

/* Appends an archive of the entries (ended by one without a name). */
void tar_make(struct th_buf *tar, const struct tar_entry *entries);

/* A source that gives the bytes in small pieces. */
struct tar_source {
	struct th_source source;
	const char *data;
	size_t len, piece;
};
void tar_source_init(
	struct tar_source *source, const char *data, size_t len, size_t piece);

#endif
