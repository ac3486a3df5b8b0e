#include "cli/output.h"

#include <libsmartcols/libsmartcols.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/shown.h"
#include "model/settings.h"

int exit_code_of(enum th_code code)
{
	static const int codes[] = {[TH_OK] = EXIT_DONE,
		[TH_FAILED] = EXIT_FAILED,
		[TH_USAGE] = EXIT_USAGE,
		[TH_NOT_FOUND] = EXIT_NOT_FOUND,
		[TH_IN_USE] = EXIT_IN_USE,
		[TH_NOT_POSSIBLE] = EXIT_NOT_POSSIBLE,
		[TH_NETWORK] = EXIT_NETWORK,
		[TH_NO_PROGRAM] = EXIT_FAILED,
		[TH_NO_EXEC] = EXIT_FAILED};

	return codes[code];
}

int say_error(const struct th_error *err)
{
	/* What went well before stands before it. */
	fflush(stdout);
	if (!err->msg[0])
		return exit_code_of(err->code); /* it was told already */
	fprintf(stderr, "tidyhull: %s\n", shown(err->msg));
	if (err->hint[0])
		fprintf(stderr, "  %s\n", shown(err->hint));
	return exit_code_of(err->code);
}

int say_problems(
	const char *verb, const char *name, const struct th_problems *problems)
{
	fflush(stdout);
	fprintf(stderr, "tidyhull: cannot %s \"%s\": %zu problem%s\n", verb,
		shown(name), problems->count, problems->count == 1 ? "" : "s");
	for (size_t i = 0; i < problems->count; i++) {
		fprintf(stderr, "  %s\n", shown(problems->list[i].msg));
		if (problems->list[i].hint[0])
			fprintf(stderr, "    %s\n",
				shown(problems->list[i].hint));
	}
	/* The first one decides, as it would alone. */
	return exit_code_of(problems->list[0].code);
}

void say_last_words(const char *words)
{
	if (*words)
		fputs("  its last words:\n", stderr);
	while (*words) {
		size_t len = strcspn(words, "\n");
		char line[400];

		snprintf(line, sizeof(line), "%.*s",
			(int)(len < 390 ? len : 390), words);
		fprintf(stderr, "    | %s\n", shown(line));
		words += len + (words[len] == '\n');
	}
}

bool colours(void)
{
	const char *forbidden = getenv("NO_COLOR");
	const char *term = getenv("TERM");

	return isatty(1) && !(forbidden && *forbidden) && term &&
		strcmp(term, "dumb") != 0;
}

bool on_terminal(void)
{
	return isatty(2);
}

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
	/* Lines longer than a terminal are better than cut ones in a pipe. */
	if (!isatty(1))
		scols_table_set_termforce(
			table->columns, SCOLS_TERMFORCE_NEVER);
	return table;
}

void table_column(struct table *table, const char *name, bool right)
{
	struct libscols_column *column = scols_table_new_column(
		table->columns, name, 0, right ? SCOLS_FL_RIGHT : 0);

	if (column)
		scols_cell_set_color(scols_column_get_header(column), "bold");
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
	va_list args;
	char *text = NULL;

	va_start(args, fmt);
	if (vasprintf(&text, fmt, args) < 0)
		text = NULL;
	va_end(args);
	if (table->line && text) {
		scols_line_set_data(table->line, table->cell, shown(text));
		if (colour)
			scols_cell_set_color(
				scols_line_get_cell(table->line, table->cell),
				colour);
	}
	table->cell++;
	free(text);
}

void table_print(struct table *table)
{
	fflush(stdout);
	scols_print_table(table->columns);
	table_drop(table);
}

void table_drop(struct table *table)
{
	scols_unref_table(table->columns);
	free(table);
}

void size_text(uint64_t bytes, char text[SIZE_TEXT])
{
	static const char *const units[] = {"B", "kB", "MB", "GB", "TB"};
	double value = (double)bytes;
	int unit = 0;

	while (value >= 999.5 && unit < 4) {
		value /= 1000;
		unit++;
	}
	snprintf(text, SIZE_TEXT, unit && value < 99.5 ? "%.1f %s" : "%.0f %s",
		value, units[unit]);
}

void ago_text(int64_t time_us, char text[48])
{
	char span[TH_TIME_TEXT];

	text[0] = '\0';
	/* Some write the beginning of time where they mean none. */
	if (time_us <= 0)
		return;
	th_clock_span(th_clock_now_us() - time_us, span);
	snprintf(text, 48, "%.38s ago", span);
}

static void short_outcome(const struct th_container_row *row, char text[64])
{
	const char *name;

	switch (row->outcome) {
	case TH_OUTCOME_NONE:
		text[0] = '\0';
		break;
	case TH_OUTCOME_EXITED:
		snprintf(text, 64, "exit code %d", row->code);
		break;
	case TH_OUTCOME_SIGNAL:
		name = th_signal_name(row->code);
		snprintf(text, 64, "signal %s", name ? name : "?");
		break;
	case TH_OUTCOME_OUT_OF_MEMORY:
		snprintf(text, 64, "out of memory");
		break;
	case TH_OUTCOME_COULD_NOT_START:
		snprintf(text, 64, "could not start");
		break;
	case TH_OUTCOME_HOST_RESTARTED:
		snprintf(text, 64, "host restarted");
		break;
	case TH_OUTCOME_KEEPER_LOST:
		snprintf(text, 64, "keeper lost");
		break;
	}
}

/* "waiting: exit code 1, try 3 in 8 s". */
static void waiting_text(
	const struct th_container_row *row, const char *outcome, char text[96])
{
	int64_t left = row->next_us - th_clock_now_us();
	char span[TH_TIME_TEXT];

	th_clock_span(left > 0 ? left : 0, span);
	snprintf(text, 96, "waiting: %.30s, attempt %d in %.20s", outcome,
		row->tries, span);
}

void state_text(const struct th_container_row *row, char text[96])
{
	char outcome[64];

	short_outcome(row, outcome);
	if (row->state == TH_STATE_STOPPED && outcome[0])
		snprintf(text, 96, "stopped: %s", outcome);
	else if (row->state == TH_STATE_WAITING)
		waiting_text(row, outcome, text);
	else if (row->health[0] && row->state == TH_STATE_RUNNING)
		snprintf(text, 96, "running, %s", row->health);
	else
		snprintf(text, 96, "%s", th_state_word(row->state));
}

const char *state_colour(const struct th_container_row *row)
{
	switch (row->state) {
	case TH_STATE_RUNNING:
		return strcmp(row->health, "ailing") == 0     ? "red"
			: strcmp(row->health, "warming") == 0 ? "yellow"
							      : "green";
	case TH_STATE_PAUSED:
	case TH_STATE_WAITING:
		return "yellow";
	case TH_STATE_CREATED:
		return "cyan";
	case TH_STATE_STOPPED:
		break;
	}
	/* An orderly end, or one that was asked for, is nothing to look at. */
	if ((row->outcome == TH_OUTCOME_EXITED && row->code == 0) ||
		th_cause_is_stop(&row->cause))
		return NULL;
	return "red";
}

void outcome_text(const struct th_container_row *row, char text[320])
{
	bool asked = th_cause_is_asked(&row->cause);
	const char *name;

	switch (row->outcome) {
	case TH_OUTCOME_NONE:
		snprintf(text, 320, "has not ended yet");
		break;
	case TH_OUTCOME_EXITED:
		snprintf(text, 320, "%s with exit code %d",
			asked ? "ended" : "ended by itself", row->code);
		break;
	case TH_OUTCOME_SIGNAL:
		name = th_signal_name(row->code);
		snprintf(text, 320, "was killed by signal %s%s%d%s",
			name ? name : "", name ? " (" : "", row->code,
			name ? ")" : "");
		break;
	case TH_OUTCOME_OUT_OF_MEMORY:
		snprintf(text, 320, "was killed by the kernel: out of memory");
		break;
	case TH_OUTCOME_COULD_NOT_START:
		snprintf(
			text, 320, "could not be started: %s", row->cause.text);
		break;
	case TH_OUTCOME_HOST_RESTARTED:
		snprintf(text, 320, "ended when the host restarted");
		break;
	case TH_OUTCOME_KEEPER_LOST:
		snprintf(text, 320, "was lost when its keeper was killed");
		break;
	}
}

int print_json(json_t *doc)
{
	char *text = doc ? json_shown(doc, JSON_INDENT(2)) : NULL;

	if (text)
		puts(text);
	free(text);
	json_decref(doc);
	return text ? EXIT_DONE : EXIT_FAILED;
}
