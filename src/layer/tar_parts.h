/* What the parts of the tar reader share. */
#ifndef TH_LAYER_TAR_PARTS_H
#define TH_LAYER_TAR_PARTS_H

#include "base/buffer.h"
#include "layer/tar.h"

#define TAR_BLOCK 512

struct tar_piece {
	uint64_t offset, len;
};

/* A sparse file's parts that are not holes, in their order. */
struct tar_map {
	struct tar_piece *pieces; /* owned */
	size_t count, room;
	bool given;
};

/* Appends; refuses what overlaps, goes back or leads beyond any file. */
int tar_map_add(struct tar_map *map, uint64_t offset, uint64_t len,
	struct th_error *err);

/* What extended headers say; members that are not given are as a header of the
 * entry itself says. */
struct tar_pax {
	struct th_buf path, link; /* given where len > 0 */
	bool has_size, has_uid, has_gid, has_mtime, has_major, has_minor;
	uint64_t size_bytes, uid, gid, major, minor;
	struct timespec mtime;
	struct th_buf names, values; /* of extended attributes, see below */
	struct {
		size_t name, value, len; /* in the two */
	} attributes[TH_TAR_ATTRIBUTES_MAX];
	size_t attribute_count;
	/* GNU's sparse files */
	struct th_buf sparse_name;
	bool has_real_size, has_parts;
	uint64_t real_size, sparse_major, sparse_minor, parts;
	uint64_t next_offset;
	bool has_next_offset;
	struct tar_map map;
};

void tar_pax_init(struct tar_pax *pax);
void tar_pax_release(struct tar_pax *pax);
/* Takes over what a header for all entries (from) says. */
int tar_pax_copy(struct tar_pax *pax, const struct tar_pax *from);
/* Reads the records of one extended header into pax. */
int tar_pax_read(struct tar_pax *pax, const char *data, size_t len,
	struct th_error *err);

/* A decimal number that is all of the text; false where it is not. */
bool tar_decimal(const char *text, size_t len, uint64_t *value);

#endif
