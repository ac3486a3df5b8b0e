#include "cli/table_fit.h"

#include <limits.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <wchar.h>

#include "cli/table.h"

#define COLUMNS_MAX 16
#define BETWEEN 2
/* Longer words may be broken, too. */
#define WORD_WIDTH 28
/* What a tree draws before a text of its first column, for each depth. */
#define BRANCH_WIDTH 2

struct fitted {
	struct libscols_column *column;
	int flags;
	size_t width; /* 0: left out */
	size_t least; /* the longest word: what is narrower cannot be read */
	bool broken;
};

struct fitting {
	struct libscols_table *table;
	struct fitted columns[COLUMNS_MAX];
	size_t count;
};

void table_fit_keep(struct libscols_column *column, int flags)
{
	scols_cell_set_userdata(
		scols_column_get_header(column), (void *)(uintptr_t)flags);
}

/* The columns of a terminal that a character takes; its bytes in *bytes. */
static size_t char_width(const char *text, size_t *bytes)
{
	mbstate_t state = {0};
	wchar_t wide;
	size_t len = mbrtowc(&wide, text, strlen(text), &state);
	int width;

	if (len == 0 || len > MB_LEN_MAX) {
		*bytes = 1;
		return 1;
	}
	*bytes = len;
	width = wcwidth(wide);
	return width < 0 ? 0 : (size_t)width;
}

static size_t text_width(const char *text)
{
	size_t width = 0, bytes;

	for (; text && *text; text += bytes)
		width += char_width(text, &bytes);
	return width;
}

static size_t depth_of(struct libscols_line *line)
{
	size_t depth = 0;

	while ((line = scols_line_get_parent(line)))
		depth++;
	return depth;
}

static size_t word_width(const char *text)
{
	size_t widest = 0, width = 0, bytes;

	for (; text && *text; text += bytes) {
		size_t wide = char_width(text, &bytes);

		width = *text == ' ' ? 0 : width + wide;
		widest = width > widest ? width : widest;
	}
	return widest < WORD_WIDTH ? widest : WORD_WIDTH;
}

/* As wide as its widest cell. */
static void measure_column(struct libscols_table *table, struct fitted *one)
{
	bool tree = scols_column_is_tree(one->column);
	size_t lines = scols_table_get_nlines(table);

	one->width = text_width(
		scols_cell_get_data(scols_column_get_header(one->column)));
	one->least = one->width;
	for (size_t i = 0; i < lines; i++) {
		struct libscols_line *line = scols_table_get_line(table, i);
		const char *text = scols_cell_get_data(
			scols_line_get_column_cell(line, one->column));
		size_t width = text_width(text), word = word_width(text);

		if (tree)
			width += depth_of(line) * BRANCH_WIDTH;
		one->width = width > one->width ? width : one->width;
		one->least = word > one->least ? word : one->least;
	}
}

static void measure(struct fitting *fitting)
{
	struct libscols_iter *at = scols_new_iter(SCOLS_ITER_FORWARD);
	struct libscols_column *column;

	while (at && fitting->count < COLUMNS_MAX &&
		scols_table_next_column(fitting->table, at, &column) == 0) {
		struct fitted *one = &fitting->columns[fitting->count];

		if (scols_column_is_hidden(column))
			continue;
		one->column = column;
		one->flags = (int)(uintptr_t)scols_cell_get_userdata(
			scols_column_get_header(column));
		measure_column(fitting->table, one);
		fitting->count++;
	}
	scols_free_iter(at);
}

static size_t whole_width(const struct fitting *fitting)
{
	size_t width = 0;

	for (size_t i = 0; i < fitting->count; i++) {
		if (fitting->columns[i].width)
			width += fitting->columns[i].width +
				(width ? BETWEEN : 0);
	}
	return width;
}

/* Columns that have all of the flags, from the right; true where the table fits
 * now. */
static bool leave_out(struct fitting *fitting, int flags, size_t room)
{
	for (size_t i = fitting->count; i > 0; i--) {
		struct fitted *one = &fitting->columns[i - 1];

		if (whole_width(fitting) <= room)
			break;
		if ((one->flags & flags) != flags)
			continue;
		scols_column_set_flags(one->column,
			scols_column_get_flags(one->column) | SCOLS_FL_HIDDEN);
		one->width = 0;
	}
	return whole_width(fitting) <= room;
}

/* The bytes of the next line of a text, and of the space behind it. */
static size_t line_of(const char *text, size_t width, size_t *space)
{
	size_t at = 0, used = 0, good = 0, bytes = 1;

	*space = 0;
	while (text[at]) {
		size_t wide = char_width(text + at, &bytes);

		if (used + wide > width)
			break;
		used += wide;
		at += bytes;
		if (text[at] == ' ')
			good = at;
	}
	if (!text[at])
		return at;
	if (text[at] == ' ')
		good = at;
	if (!good)
		return at ? at : bytes;
	*space = text[good] == ' ';
	return good;
}

static void break_text(struct libscols_cell *cell, size_t width)
{
	const char *text = scols_cell_get_data(cell);
	char *broken = text ? malloc(2 * strlen(text) + 1) : NULL;
	size_t used = 0;

	if (!broken)
		return;
	while (*text) {
		size_t space, line = line_of(text, width, &space);

		memcpy(broken + used, text, line);
		used += line;
		text += line + space;
		if (*text)
			broken[used++] = '\n';
	}
	broken[used] = '\0';
	if (scols_cell_refer_data(cell, broken))
		free(broken);
}

static void break_column(struct fitting *fitting, const struct fitted *one)
{
	size_t lines = scols_table_get_nlines(fitting->table);

	scols_column_set_flags(one->column,
		scols_column_get_flags(one->column) | SCOLS_FL_WRAP);
	scols_column_set_wrapfunc(one->column, scols_wrapnl_chunksize,
		scols_wrapnl_nextchunk, NULL);
	scols_column_set_safechars(one->column, "\n");
	for (size_t i = 0; i < lines; i++)
		break_text(scols_line_get_column_cell(
				   scols_table_get_line(fitting->table, i),
				   one->column),
			one->width);
}

/* The widest of those that may be broken gives way first. */
static void narrow(struct fitting *fitting, size_t room)
{
	while (whole_width(fitting) > room) {
		size_t widest = fitting->count;

		for (size_t i = 0; i < fitting->count; i++) {
			const struct fitted *one = &fitting->columns[i];

			if (one->flags & TABLE_BREAK &&
				one->width > one->least &&
				(widest == fitting->count ||
					one->width >
						fitting->columns[widest].width))
				widest = i;
		}
		if (widest == fitting->count)
			break;
		fitting->columns[widest].width--;
		fitting->columns[widest].broken = true;
	}
}

void table_fit(struct libscols_table *table, size_t room, bool may_leave_out)
{
	struct fitting fitting = {.table = table};

	measure(&fitting);
	if (may_leave_out && !leave_out(&fitting, TABLE_HASH, room))
		leave_out(&fitting, TABLE_LESS, room);
	narrow(&fitting, room);
	if (may_leave_out)
		leave_out(&fitting, TABLE_LATER, room);
	for (size_t i = 0; i < fitting.count; i++) {
		if (fitting.columns[i].broken && fitting.columns[i].width)
			break_column(&fitting, &fitting.columns[i]);
	}
}
