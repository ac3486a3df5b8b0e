/* Tables, and what of them is shown. */
#ifndef CLI_TABLE_H
#define CLI_TABLE_H

#include <stdbool.h>

#include "base/error.h"

/* A table: columns first, then rows; freed by table_print and table_drop. */
struct table;
struct table *table_new(void);

enum table_flags {
	TABLE_RIGHT = 1, /* numbers */
	/* What happens where the terminal is too narrow: */
	TABLE_HASH = 2, /* left out first */
	TABLE_LESS = 4, /* left out, too */
	TABLE_BREAK = 8, /* broken into lines */
	TABLE_LATER = 16 /* left out where all that did not help */
};
void table_column(struct table *table, const char *name, int flags);
/* A new row; cells are filled from the left. */
void table_row(struct table *table);
/* Makes the first column a tree: a row belongs below the last one of the depth
 * before it. Instead of table_row. */
void table_branch(struct table *table, int depth);
void table_cell(struct table *table, const char *colour, const char *fmt, ...)
	__attribute__((format(printf, 3, 4)));
void table_print(struct table *table);
void table_drop(struct table *table);
/* A line below a table. Not where the table lacks a column that was asked for
 * (table_chosen): then that alone is told. */
void table_note(const char *fmt, ...) __attribute__((format(printf, 1, 2)));

/* For all tables from now on: only these columns, in this order ("state,image",
 * NULL: all), sorted by one of them ("-size": the other way round; NULL: as
 * they come). Spaces in the names of columns are dashes here. */
void table_choose(const char *columns, const char *sort);
/* True where each row has to be whole, as it may come to stand elsewhere. */
bool table_is_sorted(void);
/* What was chosen and is no column of the table that was printed: -1. */
int table_chosen(struct th_error *err);

#endif
