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

/* Pieces that were given back are taken again by their sizes: in steps of 16
 * bytes at first, then four to each doubling, up to a limit. */
#define STEP 16
#define STEPS 64
#define CLASSES (STEPS + 4 * 6)
#define KEPT_MAX ((size_t)STEP * STEPS << 6)

/* In front of each piece. */
struct piece {
	_Alignas(ALIGNMENT) size_t size;
};

/* In one that waits. */
struct waiting {
	struct waiting *next;
};

static struct scratch {
	char *base; /* NULL: none */
	size_t used;
	size_t pieces; /* those in use */
	struct waiting *waiting[CLASSES];
} scratch;

/* The size's class, and the size that all of it have. */
static size_t class_of(size_t *size)
{
	size_t number = (*size + STEP - 1) / STEP, base = STEPS, class = STEPS;

	if (number <= STEPS) {
		number = number ? number : 1;
		*size = number * STEP;
		return number - 1;
	}
	while (number > 2 * base) {
		base *= 2;
		class += 4;
	}
	number = (number - base + base / 4 - 1) / (base / 4);
	*size = (base + number * (base / 4)) * STEP;
	return class + number - 1;
}

static bool is_inside(const void *data)
{
	uintptr_t at = (uintptr_t)data, base = (uintptr_t)scratch.base;

	return scratch.base && at >= base && at < base + BYTES;
}

static struct piece *piece_of(void *data)
{
	return (struct piece *)data - 1;
}

/* From those that wait, or the first room that nobody has had yet. */
static struct piece *take_inside(size_t size)
{
	size_t whole = (size + ALIGNMENT - 1) / ALIGNMENT * ALIGNMENT;
	size_t class = size <= KEPT_MAX ? class_of(&whole) : CLASSES;
	struct piece *piece;

	if (class < CLASSES && scratch.waiting[class]) {
		piece = piece_of(scratch.waiting[class]);
		scratch.waiting[class] = scratch.waiting[class]->next;
	} else if (whole + sizeof(*piece) <= BYTES - scratch.used) {
		piece = (struct piece *)(void *)(scratch.base + scratch.used);
		scratch.used += whole + sizeof(*piece);
		piece->size = whole;
	} else {
		return NULL;
	}
	scratch.pieces++;
	return piece;
}

static void *take(size_t size)
{
	struct piece *piece = NULL;

	if (size < BYTES && scratch.base)
		piece = take_inside(size);
	if (!piece) {
		piece = malloc(size + sizeof(*piece));
		if (!piece)
			return NULL;
		piece->size = size;
	}
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
	if (--scratch.pieces == 0) {
		scratch.used = 0;
		memset(scratch.waiting, 0, sizeof(scratch.waiting));
	} else if (is_last(piece)) {
		scratch.used = (size_t)((char *)piece - scratch.base);
	} else if (piece->size <= KEPT_MAX) {
		size_t size = piece->size, class = class_of(&size);
		struct waiting *waiting = data;

		waiting->next = scratch.waiting[class];
		scratch.waiting[class] = waiting;
	}
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
	/* Children have no use for it: shared with them, each of its pages
	 * would cost a fault when it is written next. Nor is it worth a huge
	 * page. */
	madvise(base, BYTES, MADV_WIPEONFORK);
	madvise(base, BYTES, MADV_NOHUGEPAGE);
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
