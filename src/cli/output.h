/* How answers are drawn: errors, tables, times and sizes. */
#ifndef CLI_OUTPUT_H
#define CLI_OUTPUT_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"
#include "cli/table.h"
#include "tidyhull/error.h"

/* The exit codes (README.md). */
enum exit_code {
	EXIT_DONE = 0,
	EXIT_FAILED = 1,
	EXIT_USAGE = 2,
	EXIT_NOT_FOUND = 3,
	EXIT_IN_USE = 4,
	EXIT_NOT_POSSIBLE = 5,
	EXIT_NETWORK = 6,
	EXIT_TOOL = 125, /* of run and exec: the tool itself failed */
	EXIT_NO_EXEC = 126,
	EXIT_NO_PROGRAM = 127
};

int exit_code_of(enum th_code code);

/* From now on errors are objects of JSON (docs/json.md), a line each. */
void say_errors_as_json(void);
/* Prints the error and its hint on stderr, and returns its exit code. */
int say_error(const struct th_error *err);
/* Prints all problems of a call that failed under one headline: cannot VERB
 * "NAME"; where doc has none, the error. */
int say_problems(const char *verb, const char *name, const json_t *doc,
	const struct th_error *err);

/* Prints what a program has written last, line by line; nothing where that is
 * nothing. */
void say_last_words(const char *words);

/* True where stdout is a terminal that may have colours. */
bool colours(void);
/* True where stderr is a terminal, for progress and questions. */
bool on_terminal(void);

/* What is written to the path goes to stdout: "-", or a name of it as
 * /dev/stdout is one. What else is said then goes to stderr. */
bool is_output(const char *path);

/* "12.4 MB" and the like; the text is the caller's. */
#define SIZE_TEXT 24
void size_text(uint64_t bytes, char text[SIZE_TEXT]);
/* "3 min ago"; "" for 0. */
void ago_text(int64_t time_us, char text[48]);
/* A container's state for people: "running", "stopped (exit code 1)"; and the
 * colour that goes with it. */
void state_text(const json_t *container, char text[96]);
const char *state_colour(const json_t *container);

/* Prints the member of each in the list, a line for each, as scripts want it.
 */
void print_each(const json_t *list, const char *key);

/* Prints the document on stdout and frees it; 0. */
int print_json(json_t *doc);
/* The same on one line. */
void print_json_line(json_t *doc);

#endif
