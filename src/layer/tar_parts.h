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

/* Where the type of an entry stands in its header. */
#define TAR_TYPE 156

/* A descriptor as a source. */
struct fd_source {
	struct th_source source; /* first: the two are one */
	int fd;
	off_t size; /* of a regular file; -1: it cannot be passed over */
	struct th_cancel cancel;
	char *data;
};

struct th_tar {
	struct th_source *source;
	struct fd_source own_source;
	const char *have; /* of the source's last piece */
	size_t have_len;
	bool at_end;
	uint64_t position; /* in the archive */
	char block[TAR_BLOCK];
	/* what extended headers say: about all entries, and about the next */
	struct tar_pax global, own;
	bool own_given;
	struct th_buf long_name, long_link; /* GNU's, of the next entry */
	struct th_buf name, link, extended;
	struct th_tar_entry entry;
	/* the current entry's data */
	uint64_t stored_left; /* in the archive */
	uint64_t padding;
	uint64_t done; /* in the file, where it is not sparse */
	size_t piece;
	uint64_t piece_done;
	bool in_entry, ended;
};

/* tar_read.c: errors, and bytes of the archive. */
int tar_truncated(const struct th_tar *tar, struct th_error *err);
int tar_damaged(
	const struct th_tar *tar, const char *why, struct th_error *err);
/* Sees to it that a byte is at hand. 1, 0 at the end, -1. */
int tar_look(struct th_tar *tar, struct th_error *err);
void tar_use(struct th_tar *tar, size_t len);
/* Into tar->block. 1, 0 where nothing is left, -1. */
int tar_read_block(struct th_tar *tar, struct th_error *err);
int tar_pass_over(struct th_tar *tar, uint64_t len, struct th_error *err);
/* What is missing to whole blocks. */
uint64_t tar_padding(uint64_t size);
/* A number of the header, between bounds; what: for the message. */
int tar_field(struct th_tar *tar, size_t at, size_t len, int64_t least,
	int64_t most, const char *what, int64_t *value, struct th_error *err);

/* tar_field.c */
bool tar_number(const char *field, size_t len, int64_t *value);
bool tar_is_zero(const char *block);
bool tar_has_checksum(const char *block);

/* tar_sparse.c: where the entry is a sparse file, its parts. */
int tar_read_sparse(struct th_tar *tar, struct th_error *err);

#endif
