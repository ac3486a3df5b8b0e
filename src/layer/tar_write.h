/* Writing tar archives: ustar headers, and an extended header (pax(1)) where
 * those cannot hold what is to be said. Sparse files are written without their
 * holes (GNU's format 1.0, that others read as well). Names are bytes. */
#ifndef TH_LAYER_TAR_WRITE_H
#define TH_LAYER_TAR_WRITE_H

#include "base/buffer.h"
#include "base/sink.h"
#include "layer/tar.h"

struct th_tar_out {
	int fd; /* borrowed */
	struct th_sink *sink; /* borrowed; instead of fd where it is set */
	uint64_t written_bytes;
	/* of the current entry: what is left of its data, and the padding */
	uint64_t left;
	size_t padding;
	struct th_buf header; /* owned */
};

/* A part of a sparse file that is no hole. */
struct th_tar_part {
	uint64_t offset, len;
};

struct th_tar_parts {
	struct th_tar_part *items; /* owned: to be freed */
	size_t count;
};

/* Appends one; -1 without memory. */
int th_tar_parts_add(struct th_tar_parts *parts, uint64_t offset, uint64_t len);

void th_tar_out_init(struct th_tar_out *out, int fd);
void th_tar_out_init_sink(struct th_tar_out *out, struct th_sink *sink);
void th_tar_out_release(struct th_tar_out *out);

/* An entry that is about the whole archive and that no reader makes a file of
 * (pax(1), "global extended header"): its name may be anything of up to 100
 * bytes, and the comment is for people. */
int th_tar_out_comment(struct th_tar_out *out, const char *name,
	const char *comment, struct th_error *err);
/* Begins an entry: its name, link, type (0: a hard link), mode, owner, size,
 * time, device and extended attributes count. parts (NULL: the file has no
 * holes): those of a sparse one, of which all data is to follow. -1 with the
 * error, of which sys is errno. */
int th_tar_out_entry(struct th_tar_out *out, const struct th_tar_entry *entry,
	const struct th_tar_part *parts, size_t count, struct th_error *err);
/* Some of its data; all together as much as the entry has said. */
int th_tar_out_data(struct th_tar_out *out, const void *data, size_t len,
	struct th_error *err);
/* Ends the archive. */
int th_tar_out_end(struct th_tar_out *out, struct th_error *err);

#endif
