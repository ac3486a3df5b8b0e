/* Sparse files as GNU tar writes them: the parts in old headers, in extended
 * ones (versions 0.0 and 0.1), or before the data (1.0). */
#include "layer/tar_parts.h"

/* Fields of old headers (tar(5)). */
#define OLD_MAP 386
#define OLD_MAP_PIECES 4
#define OLD_EXTENDED 482
#define OLD_REAL_SIZE 483
#define NEXT_MAP_PIECES 21
#define NEXT_EXTENDED 504

/* count pieces of 2 x 12 bytes; one without a size ends them. */
static int read_old_pieces(struct th_tar *tar, struct tar_map *map, size_t at,
	size_t count, struct th_error *err)
{
	for (size_t i = 0; i < count; i++, at += 24) {
		int64_t offset, len;

		if (!tar->block[at] && !tar->block[at + 12])
			return 0;
		if (tar_field(tar, at, 12, 0, INT64_MAX, "sparse map", &offset,
			    err) ||
			tar_field(tar, at + 12, 12, 0, INT64_MAX, "sparse map",
				&len, err) ||
			tar_map_add(map, (uint64_t)offset, (uint64_t)len, err))
			return -1;
	}
	return 0;
}

static int read_old_sparse(struct th_tar *tar, struct th_error *err)
{
	struct tar_map *map = &tar->own.map;
	int64_t size;
	bool more;

	map->count = 0;
	map->given = true;
	if (tar_field(
		    tar, OLD_REAL_SIZE, 12, 0, INT64_MAX, "size", &size, err) ||
		read_old_pieces(tar, map, OLD_MAP, OLD_MAP_PIECES, err))
		return -1;
	tar->entry.size_bytes = (uint64_t)size;
	for (more = tar->block[OLD_EXTENDED]; more;
		more = tar->block[NEXT_EXTENDED]) {
		int rc = tar_read_block(tar, err);

		if (rc <= 0)
			return rc < 0 ? -1 : tar_truncated(tar, err);
		if (read_old_pieces(tar, map, 0, NEXT_MAP_PIECES, err))
			return -1;
	}
	return 0;
}

/* A line of the map that stands before the data in version 1.0. */
static int read_map_number(struct th_tar *tar, uint64_t *used, uint64_t *number,
	struct th_error *err)
{
	char digits[24];
	size_t len = 0;

	for (;;) {
		int rc = tar->stored_left ? tar_look(tar, err) : 0;
		char c;

		if (rc <= 0)
			return rc < 0 ? -1 : tar_truncated(tar, err);
		c = *tar->have;
		tar_use(tar, 1);
		tar->stored_left--;
		++*used;
		if (c == '\n')
			break;
		if (len == sizeof(digits))
			return tar_damaged(
				tar, "a sparse map is malformed", err);
		digits[len++] = c;
	}
	return tar_decimal(digits, len, number)
		? 0
		: tar_damaged(tar, "a sparse map is malformed", err);
}

static int read_new_map(struct th_tar *tar, struct th_error *err)
{
	struct tar_map *map = &tar->own.map;
	uint64_t count, used = 0, rest;

	map->count = 0;
	map->given = true;
	if (read_map_number(tar, &used, &count, err))
		return -1;
	for (uint64_t i = 0; i < count; i++) {
		uint64_t offset, len;

		if (read_map_number(tar, &used, &offset, err) ||
			read_map_number(tar, &used, &len, err) ||
			tar_map_add(map, offset, len, err))
			return -1;
	}
	rest = tar_padding(used);
	if (rest > tar->stored_left)
		return tar_damaged(tar, "a sparse map is malformed", err);
	tar->stored_left -= rest;
	return tar_pass_over(tar, rest, err);
}

/* All of the map lies in the file, and all that is stored in the map. */
static int check_map(struct th_tar *tar, struct th_error *err)
{
	const struct tar_map *map = &tar->own.map;
	uint64_t sum = 0;

	for (size_t i = 0; i < map->count; i++) {
		sum += map->pieces[i].len;
		if (map->pieces[i].offset + map->pieces[i].len >
			tar->entry.size_bytes)
			return tar_damaged(
				tar, "a sparse map leads beyond its file", err);
	}
	if (sum != tar->stored_left)
		return tar_damaged(
			tar, "a sparse map does not fit what is stored", err);
	return 0;
}

int tar_read_sparse(struct th_tar *tar, struct th_error *err)
{
	struct tar_pax *pax = &tar->own;

	if (tar->block[TAR_TYPE] == 'S') {
		if (read_old_sparse(tar, err))
			return -1;
	} else if (tar->own_given && pax->sparse_major) {
		if (pax->sparse_major != 1 || pax->sparse_minor != 0)
			return tar_damaged(tar,
				"a sparse file has an unknown version", err);
		if (!pax->has_real_size)
			return tar_damaged(
				tar, "a sparse file has no size", err);
		if (read_new_map(tar, err))
			return -1;
	} else if (!tar->own_given || !pax->map.given) {
		return 0;
	} else if (!pax->has_real_size ||
		(pax->has_parts && pax->parts != pax->map.count)) {
		return tar_damaged(tar, "a sparse map is incomplete", err);
	}
	if (tar->block[TAR_TYPE] != 'S')
		tar->entry.size_bytes = pax->real_size;
	tar->entry.sparse = true;
	return check_map(tar, err);
}
