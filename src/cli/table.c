#include "cli/table.h"

#include <libsmartcols.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <unistd.h>

#include "base/distance.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/table_fit.h"

#define TREE_DEPTH 4

struct table {
	struct libscols_table *columns;
	struct libscols_line *line;
	struct libscols_line *branches[TREE_DEPTH];
	bool tree;
	size_t cell;
};

struct table *table_new(void)
{
	struct table *table = calloc(1, sizeof(*table));

	if (!table)
		abort();
	scols_init_debug(0);
	table->columns = scols_new_table();
	if (!table->columns)
		abort();
	scols_table_set_column_separator(table->columns, "  ");
	scols_table_enable_colors(table->columns, colours());
	if (!isatty(1))
		scols_table_set_termforce(
			table->columns, SCOLS_TERMFORCE_NEVER);
	return table;
}

void table_column(struct table *table, const char *name, int flags)
{
	struct libscols_column *column = scols_table_new_column(table->columns,
		name, 0, flags & TABLE_RIGHT ? SCOLS_FL_RIGHT : 0);

	if (!column)
		return;
	scols_cell_set_color(scols_column_get_header(column), "bold");
	table_fit_keep(column, flags);
}

void table_branch(struct table *table, int depth)
{
	struct libscols_line *above =
		depth > 0 ? table->branches[depth - 1] : NULL;
	struct libscols_column *first =
		scols_table_get_column(table->columns, 0);

	if (!table->tree && first)
		scols_column_set_flags(
			first, scols_column_get_flags(first) | SCOLS_FL_TREE);
	table->tree = true;
	table->line = scols_table_new_line(table->columns, above);
	table->branches[depth] = table->line;
	table->cell = 0;
}

void table_row(struct table *table)
{
	table->line = scols_table_new_line(table->columns, NULL);
	table->cell = 0;
}

void table_cell(struct table *table, const char *colour, const char *fmt, ...)
{
	const char *text;
	char *made = NULL;
	va_list args;

	va_start(args, fmt);
	/* Most are a text as it is; a long list has very many of them. */
	if (strcmp(fmt, "%s") == 0)
		text = va_arg(args, const char *);
	else
		text = vasprintf(&made, fmt, args) < 0 ? NULL : made;
	va_end(args);
	if (table->line && text) {
		scols_line_set_data(table->line, table->cell, shown(text));
		if (colour)
			scols_cell_set_color(
				scols_line_get_cell(table->line, table->cell),
				colour);
	}
	table->cell++;
	free(made);
}

/* ---- what is shown ---- */

static struct {
	const char *columns, *sort;
	bool fails;
	char wrong[60]; /* what is no column, and those that are */
	char right[300];
} choice;

void table_choose(const char *columns, const char *sort)
{
	choice.columns = columns;
	choice.sort = sort;
}

bool table_is_sorted(void)
{
	return choice.sort != NULL;
}

static bool is_named(
	struct libscols_column *column, const char *name, size_t len)
{
	const char *head = scols_cell_get_data(scols_column_get_header(column));

	if (!head || strlen(head) < len || !len)
		return false;
	for (size_t i = 0; i < len; i++) {
		if (head[i] != name[i] && !(head[i] == ' ' && name[i] == '-'))
			return false;
	}
	return true;
}

/* By its name or the beginning of that; NULL is noted. */
static struct libscols_column *find_column(
	struct table *table, const char *name, size_t len)
{
	struct libscols_iter *at = scols_new_iter(SCOLS_ITER_FORWARD);
	struct libscols_column *column, *found = NULL;

	choice.right[0] = '\0';
	while (at && !found &&
		scols_table_next_column(table->columns, at, &column) == 0) {
		const char *head =
			scols_cell_get_data(scols_column_get_header(column));
		size_t used = strlen(choice.right);

		if (is_named(column, name, len))
			found = column;
		if (head && *head)
			snprintf(choice.right + used,
				sizeof(choice.right) - used, "%s%s",
				used ? ", " : "", head);
	}
	scols_free_iter(at);
	for (char *space = choice.right; *space; space++) {
		if (*space == ' ' && space[-1] != ',')
			*space = '-';
	}
	choice.fails |= !found;
	if (!found)
		snprintf(choice.wrong, sizeof(choice.wrong), "%.*s", (int)len,
			name);
	return found;
}

/* "3.1 MB", "2 s ago", "17": what it is worth beside others of the kind. */
static bool read_amount(const char *text, double *amount)
{
	static const struct {
		const char *unit;
		double worth;
	} units[] = {{"", 1}, {"B", 1}, {"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9},
		{"TB", 1e12}, {"ms", 1e-3}, {"s", 1}, {"min", 60}, {"h", 3600},
		{"d", 86400}, {"%", 1}};
	char *end;
	size_t len;

	*amount = strtod(text, &end);
	if (end == text)
		return false;
	end += strspn(end, " ");
	len = strcspn(end, " ");
	for (size_t i = 0; i < sizeof(units) / sizeof(*units); i++) {
		if (strlen(units[i].unit) == len &&
			strncmp(end, units[i].unit, len) == 0) {
			*amount *= units[i].worth;
			return true;
		}
	}
	return false;
}

static int compare(
	struct libscols_cell *a, struct libscols_cell *b, void *turned)
{
	const char *left = scols_cell_get_data(a);
	const char *right = scols_cell_get_data(b);
	double one, other;
	int order;

	left = left ? left : "";
	right = right ? right : "";
	if (read_amount(left, &one) && read_amount(right, &other))
		order = one < other ? -1 : one > other;
	else
		order = strcmp(left, right);
	return turned ? -order : order;
}

static void sort(struct table *table)
{
	const char *name = choice.sort + (choice.sort[0] == '-');
	struct libscols_column *column = find_column(table, name, strlen(name));

	if (!column)
		return;
	scols_column_set_cmpfunc(
		column, compare, name > choice.sort ? &choice : NULL);
	scols_sort_table(table->columns, column);
	if (table->tree)
		scols_sort_table_by_tree(table->columns);
}

static void hide_all(struct table *table)
{
	struct libscols_iter *at = scols_new_iter(SCOLS_ITER_FORWARD);
	struct libscols_column *column;

	while (at && scols_table_next_column(table->columns, at, &column) == 0)
		scols_column_set_flags(column,
			scols_column_get_flags(column) | SCOLS_FL_HIDDEN);
	scols_free_iter(at);
}

static void choose(struct table *table)
{
	struct libscols_column *column, *before = NULL;
	const char *name = choice.columns + strspn(choice.columns, ",");

	if (!*name)
		find_column(table, "", 0);
	hide_all(table);
	for (; *name; name += strspn(name, ",")) {
		size_t len = strcspn(name, ",");

		column = find_column(table, name, len);
		if (!column)
			return;
		scols_column_set_flags(column,
			scols_column_get_flags(column) & ~SCOLS_FL_HIDDEN);
		scols_table_move_column(table->columns, before, column);
		before = column;
		name += len;
	}
}

#define COLUMN_TEXT 300

/* Other words for columns, and mistyped ones. The first of all is the name. */
static bool column_meant(char meant[COLUMN_TEXT])
{
	static const char *const others[][2] = {{"name", NULL}, {"names", NULL},
		{"status", "state"}, {"created", "since"}, {"age", "since"},
		{"time", "when"}, {"size", "on-disk"}, {"mem", "memory"},
		{"port", "ports"}, {"tag", "tags"}, {"ip", "address"}};
	char copy[sizeof(choice.right)], *rest = NULL;
	const char *words[32] = {NULL};
	size_t count = 0;

	snprintf(copy, sizeof(copy), "%s", choice.right);
	for (char *word = strtok_r(copy, ", ", &rest); word && count < 31;
		word = strtok_r(NULL, ", ", &rest))
		words[count++] = word;
	if (count == 0)
		return false;
	if (strcmp(choice.wrong, "all") == 0) {
		meant[0] = '\0';
		for (size_t i = 0, len = 0; i < count && len < COLUMN_TEXT; i++)
			len += (size_t)snprintf(meant + len, COLUMN_TEXT - len,
				"%s%s", i ? "," : "", words[i]);
		return true;
	}
	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		const char *word = others[i][1] ? others[i][1] : words[0];

		if (strcasecmp(choice.wrong, others[i][0]) != 0 ||
			!strstr(choice.right, word))
			continue;
		snprintf(meant, COLUMN_TEXT, "%s", word);
		return true;
	}
	snprintf(meant, COLUMN_TEXT, "%s",
		th_nearest(choice.wrong, words)
			? th_nearest(choice.wrong, words)
			: "");
	return meant[0] != '\0';
}

int table_chosen(struct th_error *err)
{
	char meant[COLUMN_TEXT];

	if (!choice.fails)
		return 0;
	th_fail(err, TH_USAGE, "there is no column \"%s\"", choice.wrong);
	if (column_meant(meant))
		return th_hint(err, "it is: --%s %s",
			choice.sort && strstr(choice.sort, choice.wrong)
				? "sort"
				: "columns",
			meant);
	return th_hint(err, "use %s", choice.right);
}

void table_print(struct table *table)
{
	fflush(stdout);
	choice.fails = false;
	if (choice.sort)
		sort(table);
	if (choice.columns && !choice.fails)
		choose(table);
	/* Lines longer than a terminal are better than broken ones in a pipe.
	 */
	if (!choice.fails && isatty(1))
		table_fit(table->columns,
			scols_table_get_termwidth(table->columns),
			!choice.columns);
	if (!choice.fails)
		scols_print_table(table->columns);
	table_drop(table);
}

void table_note(const char *fmt, ...)
{
	va_list args;

	va_start(args, fmt);
	if (!choice.fails)
		vprintf(fmt, args);
	va_end(args);
}

void table_drop(struct table *table)
{
	scols_unref_table(table->columns);
	free(table);
}
