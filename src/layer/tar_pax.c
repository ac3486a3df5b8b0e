/* The records of extended headers (pax(1), "pax Extended Header"), with the
 * keywords of others that tar archives have: SCHILY.xattr.* and
 * LIBARCHIVE.xattr.* for extended attributes, GNU.sparse.* for sparse files. */
#include <stdlib.h>
#include <string.h>

#include "layer/tar_parts.h"

#define VALUES_MAX (16u << 20)
#define PIECES_MAX (4u << 20)
/* No file is longer: the kernel's own limit. */
#define FILE_MAX ((uint64_t)INT64_MAX)

/* ---- numbers ---- */

bool tar_decimal(const char *text, size_t len, uint64_t *value)
{
	uint64_t sum = 0;

	if (len == 0)
		return false;
	for (size_t i = 0; i < len; i++) {
		uint64_t digit = (uint64_t)(text[i] - '0');

		if (text[i] < '0' || text[i] > '9' ||
			sum > (UINT64_MAX - digit) / 10)
			return false;
		sum = sum * 10 + digit;
	}
	*value = sum;
	return true;
}

/* Seconds with an optional sign and fraction. */
static bool read_time(const char *text, size_t len, struct timespec *time)
{
	const char *end = text + len, *point = memchr(text, '.', len);
	bool minus = len > 0 && text[0] == '-';
	long nanoseconds = 0, unit = 100000000;
	uint64_t seconds;

	text += minus;
	if (!tar_decimal(
		    text, (size_t)((point ? point : end) - text), &seconds) ||
		seconds > INT64_MAX / 2)
		return false;
	for (const char *at = point ? point + 1 : end; at < end; at++) {
		if (*at < '0' || *at > '9')
			return false;
		nanoseconds += (*at - '0') * unit;
		unit /= 10;
	}
	time->tv_sec = minus ? -(time_t)seconds : (time_t)seconds;
	if (minus && nanoseconds) {
		time->tv_sec--;
		nanoseconds = 1000000000 - nanoseconds;
	}
	time->tv_nsec = nanoseconds;
	return true;
}

/* ---- sparse maps ---- */

int tar_map_add(struct tar_map *map, uint64_t offset, uint64_t len,
	struct th_error *err)
{
	const struct tar_piece *last =
		map->count ? &map->pieces[map->count - 1] : NULL;

	if (offset > FILE_MAX || len > FILE_MAX - offset ||
		(last && offset < last->offset + last->len))
		return th_fail(err, TH_FAILED,
			"the parts of a sparse file are out of order");
	if (map->count == map->room) {
		size_t room = map->room ? map->room * 2 : 16;
		struct tar_piece *bigger;

		if (room > PIECES_MAX)
			return th_fail(err, TH_FAILED,
				"a sparse file has more than %u parts",
				PIECES_MAX);
		bigger = realloc(map->pieces, room * sizeof(*bigger));
		if (!bigger)
			return th_fail_memory(err);
		map->pieces = bigger;
		map->room = room;
	}
	map->pieces[map->count].offset = offset;
	map->pieces[map->count++].len = len;
	map->given = true;
	return 0;
}

/* "offset,length,offset,length" of version 0.1. */
static bool read_map(
	struct tar_pax *pax, const char *text, size_t len, struct th_error *err)
{
	const char *end = text + len;
	uint64_t numbers[2];
	int have = 0;

	pax->map.count = 0;
	pax->map.given = true;
	while (text < end) {
		const char *comma = memchr(text, ',', (size_t)(end - text));
		const char *stop = comma ? comma : end;

		if (!tar_decimal(text, (size_t)(stop - text), &numbers[have]))
			return false;
		if (++have == 2) {
			have = 0;
			if (tar_map_add(&pax->map, numbers[0], numbers[1], err))
				return false;
		}
		text = stop + 1;
		if (comma && text == end)
			return false;
	}
	return have == 0;
}

/* ---- extended attributes ---- */

static int hex_digit(char c)
{
	if (c >= '0' && c <= '9')
		return c - '0';
	if (c >= 'A' && c <= 'F')
		return c - 'A' + 10;
	return c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
}

/* The name with its "%XX" replaced. */
static bool add_escaped(struct th_buf *names, const char *text, size_t len)
{
	for (size_t i = 0; i < len; i++) {
		char byte = text[i];

		if (byte == '%') {
			int high = i + 2 < len ? hex_digit(text[i + 1]) : -1;
			int low = i + 2 < len ? hex_digit(text[i + 2]) : -1;

			if (high < 0 || low < 0)
				return false;
			byte = (char)(high << 4 | low);
			i += 2;
		}
		if (!byte)
			return false;
		th_buf_add(names, &byte, 1);
	}
	return true;
}

/* Later ones of a name count; one without a value takes it back. */
static void forget_attribute(struct tar_pax *pax, const char *name)
{
	for (size_t i = 0; i < pax->attribute_count; i++) {
		if (strcmp(pax->names.data + pax->attributes[i].name, name))
			continue;
		pax->attributes[i] = pax->attributes[--pax->attribute_count];
		return;
	}
}

static bool read_attribute(struct tar_pax *pax, const char *key, size_t key_len,
	const char *value, size_t len, bool encoded)
{
	size_t name = pax->names.len, begin = pax->values.len;

	if (key_len == 0 || memchr(key, '\0', key_len))
		return false;
	if (encoded) {
		if (!add_escaped(&pax->names, key, key_len) ||
			!th_buf_unbase64(&pax->values, value, len))
			return false;
	} else {
		th_buf_add(&pax->names, key, key_len);
		th_buf_add(&pax->values, value, len);
	}
	th_buf_add(&pax->names, "", 1);
	if (pax->names.failed || pax->values.failed)
		return false;
	forget_attribute(pax, pax->names.data + name);
	if (pax->attribute_count == TH_TAR_ATTRIBUTES_MAX)
		return false;
	pax->attributes[pax->attribute_count].name = name;
	pax->attributes[pax->attribute_count].value = begin;
	pax->attributes[pax->attribute_count++].len = pax->values.len - begin;
	return true;
}

/* ---- records ---- */

static bool is_key(const char *key, size_t key_len, const char *wanted)
{
	return strlen(wanted) == key_len && memcmp(key, wanted, key_len) == 0;
}

/* What stands behind the prefix; NULL where it is another key. */
static const char *behind(const char *key, size_t key_len, const char *prefix)
{
	size_t len = strlen(prefix);

	return key_len >= len && memcmp(key, prefix, len) == 0 ? key + len
							       : NULL;
}

static bool take_name(struct th_buf *name, const char *value, size_t len)
{
	name->len = 0;
	if (len >= TH_TAR_NAME_MAX || memchr(value, '\0', len))
		return false;
	th_buf_add(name, value, len);
	return !name->failed;
}

/* An empty value takes back what was given (pax(1)). */
static bool take_number(
	bool *has, uint64_t *number, const char *value, size_t len)
{
	*has = len > 0;
	return len == 0 || tar_decimal(value, len, number);
}

static bool read_sparse(struct tar_pax *pax, const char *key, size_t key_len,
	const char *value, size_t len, struct th_error *err)
{
	uint64_t number = 0;
	bool has = false;

	if (is_key(key, key_len, "name"))
		return take_name(&pax->sparse_name, value, len);
	if (is_key(key, key_len, "map"))
		return read_map(pax, value, len, err);
	if (!take_number(&has, &number, value, len) || !has)
		return false;
	if (is_key(key, key_len, "major")) {
		pax->sparse_major = number;
	} else if (is_key(key, key_len, "minor")) {
		pax->sparse_minor = number;
	} else if (is_key(key, key_len, "size") ||
		is_key(key, key_len, "realsize")) {
		pax->real_size = number;
		pax->has_real_size = true;
	} else if (is_key(key, key_len, "numblocks")) {
		pax->parts = number;
		pax->has_parts = true;
	} else if (is_key(key, key_len, "offset")) {
		if (pax->has_next_offset)
			return false;
		pax->next_offset = number;
		pax->has_next_offset = true;
	} else if (is_key(key, key_len, "numbytes")) {
		if (!pax->has_next_offset)
			return false;
		pax->has_next_offset = false;
		return tar_map_add(&pax->map, pax->next_offset, number, err) ==
			0;
	} else {
		return false;
	}
	return true;
}

static bool read_record(struct tar_pax *pax, const char *key, size_t key_len,
	const char *value, size_t len, struct th_error *err)
{
	const char *rest;

	if (is_key(key, key_len, "path"))
		return take_name(&pax->path, value, len);
	if (is_key(key, key_len, "linkpath"))
		return take_name(&pax->link, value, len);
	if (is_key(key, key_len, "size"))
		return take_number(
			&pax->has_size, &pax->size_bytes, value, len);
	if (is_key(key, key_len, "uid"))
		return take_number(&pax->has_uid, &pax->uid, value, len);
	if (is_key(key, key_len, "gid"))
		return take_number(&pax->has_gid, &pax->gid, value, len);
	if (is_key(key, key_len, "SCHILY.devmajor"))
		return take_number(&pax->has_major, &pax->major, value, len);
	if (is_key(key, key_len, "SCHILY.devminor"))
		return take_number(&pax->has_minor, &pax->minor, value, len);
	if (is_key(key, key_len, "mtime")) {
		pax->has_mtime = len > 0;
		return len == 0 || read_time(value, len, &pax->mtime);
	}
	rest = behind(key, key_len, "GNU.sparse.");
	if (rest)
		return read_sparse(pax, rest, key_len - (size_t)(rest - key),
			value, len, err);
	rest = behind(key, key_len, "SCHILY.xattr.");
	if (rest)
		return read_attribute(pax, rest, key_len - (size_t)(rest - key),
			value, len, false);
	rest = behind(key, key_len, "LIBARCHIVE.xattr.");
	if (rest)
		return read_attribute(pax, rest, key_len - (size_t)(rest - key),
			value, len, true);
	/* What others have added does not change where files go. */
	return true;
}

int tar_pax_read(
	struct tar_pax *pax, const char *data, size_t len, struct th_error *err)
{
	const char *end = data + len;
	struct th_error why = {0};

	while (data < end) {
		const char *space = memchr(data, ' ', (size_t)(end - data));
		const char *equals;
		uint64_t size;

		/* "LENGTH KEY=VALUE\n", the length that of all of it */
		if (!space || space - data > 20 ||
			!tar_decimal(data, (size_t)(space - data), &size) ||
			size > (uint64_t)(end - data) ||
			size < (uint64_t)(space - data) + 4 ||
			data[size - 1] != '\n')
			goto malformed;
		equals = memchr(space + 1, '=',
			(size_t)(data + size - 1 - (space + 1)));
		if (!equals || equals == space + 1 ||
			!read_record(pax, space + 1,
				(size_t)(equals - space - 1), equals + 1,
				(size_t)(data + size - 1 - (equals + 1)), &why))
			goto malformed;
		data += size;
	}
	if (!pax->has_next_offset)
		return 0;
malformed:
	if (why.code) {
		*err = why;
		return -1;
	}
	return th_fail(err, TH_FAILED,
		"an extended header of the archive is malformed");
}

void tar_pax_init(struct tar_pax *pax)
{
	memset(pax, 0, sizeof(*pax));
	th_buf_init(&pax->path, TH_TAR_NAME_MAX);
	th_buf_init(&pax->link, TH_TAR_NAME_MAX);
	th_buf_init(&pax->sparse_name, TH_TAR_NAME_MAX);
	th_buf_init(&pax->names, VALUES_MAX);
	th_buf_init(&pax->values, VALUES_MAX);
}

void tar_pax_release(struct tar_pax *pax)
{
	th_buf_release(&pax->path);
	th_buf_release(&pax->link);
	th_buf_release(&pax->sparse_name);
	th_buf_release(&pax->names);
	th_buf_release(&pax->values);
	free(pax->map.pieces);
	tar_pax_init(pax);
}

int tar_pax_copy(struct tar_pax *pax, const struct tar_pax *from)
{
	struct th_buf path = pax->path, link = pax->link, names = pax->names,
		      values = pax->values, sparse_name = pax->sparse_name;

	free(pax->map.pieces);
	*pax = *from;
	/* A sparse file's parts are its own, and never everybody's. */
	memset(&pax->map, 0, sizeof(pax->map));
	path.len = link.len = names.len = values.len = sparse_name.len = 0;
	th_buf_add(&path, from->path.data, from->path.len);
	th_buf_add(&link, from->link.data, from->link.len);
	th_buf_add(&names, from->names.data, from->names.len);
	th_buf_add(&values, from->values.data, from->values.len);
	pax->path = path;
	pax->link = link;
	pax->names = names;
	pax->values = values;
	pax->sparse_name = sparse_name;
	return path.failed || link.failed || names.failed || values.failed ? -1
									   : 0;
}
