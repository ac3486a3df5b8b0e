#include "keeper/scratch.h"

#include <jansson.h>
#include <sqlite3.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

/* Only taken where it is used. What does not fit comes from the heap. */
#define BYTES ((size_t)4 << 20)
#define ALIGNMENT 16

/* In front of each piece. */
struct piece {
	_Alignas(ALIGNMENT) size_t size;
};

static struct scratch {
	char *base; /* NULL: none */
	size_t used;
	size_t pieces; /* those in use */
} scratch;

static bool is_inside(const void *data)
{
	uintptr_t at = (uintptr_t)data, base = (uintptr_t)scratch.base;

	return scratch.base && at >= base && at < base + BYTES;
}

static struct piece *piece_of(void *data)
{
	return (struct piece *)data - 1;
}

static void *take(size_t size)
{
	size_t whole = (size + ALIGNMENT - 1) / ALIGNMENT * ALIGNMENT;
	struct piece *piece;

	if (size < BYTES && scratch.base &&
		whole + sizeof(*piece) <= BYTES - scratch.used) {
		piece = (struct piece *)(void *)(scratch.base + scratch.used);
		scratch.used += whole + sizeof(*piece);
		scratch.pieces++;
	} else {
		whole = size;
		piece = malloc(size + sizeof(*piece));
		if (!piece)
			return NULL;
	}
	piece->size = whole;
	return piece + 1;
}

static bool is_last(const struct piece *piece)
{
	return (const char *)(piece + 1) + piece->size ==
		scratch.base + scratch.used;
}

static void give(void *data)
{
	struct piece *piece;

	if (!data)
		return;
	piece = piece_of(data);
	if (!is_inside(data)) {
		free(piece);
		return;
	}
	if (--scratch.pieces == 0)
		scratch.used = 0;
	else if (is_last(piece))
		scratch.used = (size_t)((char *)piece - scratch.base);
}

/* ---- as SQLite has it (sqlite3_mem_methods) ---- */

static void *sql_take(int size)
{
	return take((size_t)size);
}

static int sql_size(void *data)
{
	return data ? (int)piece_of(data)->size : 0;
}

static void *sql_retake(void *data, int size)
{
	void *made;

	if ((size_t)size <= piece_of(data)->size)
		return data;
	made = take((size_t)size);
	if (!made)
		return NULL;
	memcpy(made, data, piece_of(data)->size);
	give(data);
	return made;
}

static int sql_round(int size)
{
	return (size + ALIGNMENT - 1) / ALIGNMENT * ALIGNMENT;
}

static int sql_begin(void *nothing)
{
	(void)nothing;
	return SQLITE_OK;
}

static void sql_end(void *nothing)
{
	(void)nothing;
}

/* ---- */

void scratch_begin(void)
{
	static const sqlite3_mem_methods methods = {sql_take, give, sql_retake,
		sql_size, sql_round, sql_begin, sql_end, NULL};
	void *base = mmap(NULL, BYTES, PROT_READ | PROT_WRITE,
		MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);

	if (base == MAP_FAILED)
		return;
	scratch.base = base;
	json_set_alloc_funcs(take, give);
	sqlite3_config(SQLITE_CONFIG_MALLOC, &methods);
	/* Nobody asks how much it is. */
	sqlite3_config(SQLITE_CONFIG_MEMSTATUS, 0);
}

void scratch_trim(void)
{
	if (!scratch.base || scratch.pieces)
		return;
	madvise(scratch.base, BYTES, MADV_DONTNEED);
}
