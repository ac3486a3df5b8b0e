#include "cli/output.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/libc.h"
#include "cli/doc.h"
#include "cli/shown.h"

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

static bool as_json;

void say_errors_as_json(void)
{
	as_json = true;
}

static json_t *text_or_null(const char *text)
{
	json_t *value = *text ? json_string(text) : json_null();

	/* Names are bytes, JSON is not. */
	return value ? value : json_string(shown(text));
}

/* One object in a line of its own. */
static void say_json(enum th_code code, const char *message, const char *hint,
	const json_t *problems)
{
	static const char *const kinds[] = {[TH_OK] = "failed",
		[TH_FAILED] = "failed",
		[TH_USAGE] = "usage",
		[TH_NOT_FOUND] = "not-found",
		[TH_IN_USE] = "in-use",
		[TH_NOT_POSSIBLE] = "not-possible",
		[TH_NETWORK] = "network",
		[TH_NO_PROGRAM] = "no-program",
		[TH_NO_EXEC] = "no-exec"};
	json_t *list = json_array(), *doc;
	char *text;

	for (size_t i = 0; i < json_array_size(problems); i++) {
		const json_t *one = json_array_get(problems, i);

		json_array_append_new(list,
			json_pack("{s:o s:o}", "message",
				text_or_null(doc_text(one, "message")), "hint",
				text_or_null(doc_text(one, "hint"))));
	}
	doc = json_pack("{s:{s:s s:o s:o s:o}}", "error", "kind", kinds[code],
		"message", text_or_null(message), "hint", text_or_null(hint),
		"problems", list);
	text = doc ? json_dumps(doc, JSON_COMPACT | JSON_ENSURE_ASCII) : NULL;
	fprintf(stderr, "%s\n", text ? text : "{}");
	free(text);
	json_decref(doc);
}

int say_error(const struct th_error *err)
{
	/* What went well before stands before it. */
	fflush(stdout);
	if (!err->msg[0])
		return exit_code_of(err->code); /* it was told already */
	if (as_json) {
		say_json(err->code, err->msg, err->hint, NULL);
		return exit_code_of(err->code);
	}
	fprintf(stderr, "tidyhull: %s\n", shown(err->msg));
	if (err->hint[0])
		fprintf(stderr, "  %s\n", shown(err->hint));
	return exit_code_of(err->code);
}

int say_problems(const char *verb, const char *name, const json_t *doc,
	const struct th_error *err)
{
	const json_t *list = doc_part(doc, "problems"), *one;
	char headline[400];
	size_t i;

	if (!list)
		return say_error(err);
	fflush(stdout);
	if (!as_json)
		fprintf(stderr, "tidyhull: cannot %s \"%s\": %zu problem%s\n",
			verb, shown(name), json_array_size(list),
			json_array_size(list) == 1 ? "" : "s");
	if (as_json) {
		snprintf(headline, sizeof(headline), "cannot %s \"%.300s\"",
			verb, name);
		say_json((enum th_code)doc_number(
				 json_array_get(list, 0), "code"),
			headline, "", list);
	}
	json_array_foreach(list, i, one)
	{
		if (as_json)
			continue;
		fprintf(stderr, "  %s\n", shown(doc_text(one, "message")));
		if (*doc_text(one, "hint"))
			fprintf(stderr, "    %s\n",
				shown(doc_text(one, "hint")));
	}
	/* The first one decides, as it would alone. */
	return exit_code_of(
		(enum th_code)doc_number(json_array_get(list, 0), "code"));
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

bool is_output(const char *path)
{
	struct stat named, out;

	return strcmp(path, "-") == 0 ||
		(stat(path, &named) == 0 && fstat(1, &out) == 0 &&
			th_is_same_file(&named, &out));
}

bool on_terminal(void)
{
	return isatty(2);
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

static void short_outcome(const json_t *outcome, char text[64])
{
	static const struct {
		const char *kind, *text;
	} words[] = {{"out-of-memory", "out of memory"},
		{"could-not-start", "could not start"},
		{"host-restarted", "host restarted"},
		{"keeper-lost", "keeper lost"}};
	const char *kind = doc_text(outcome, "kind");

	text[0] = '\0';
	if (strcmp(kind, "exited") == 0) {
		snprintf(text, 64, "exit code %d",
			(int)doc_number(outcome, "exit-code"));
	} else if (strcmp(kind, "signal") == 0) {
		const char *name =
			sigabbrev_np((int)doc_number(outcome, "signal"));

		snprintf(text, 64, "signal %s", name ? name : "?");
	}
	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		if (strcmp(kind, words[i].kind) == 0)
			snprintf(text, 64, "%s", words[i].text);
	}
}

/* "waiting: exit code 1, try 3 in 8 s". */
static void waiting_text(
	const json_t *restart, const char *outcome, char text[96])
{
	int64_t left = doc_time(restart, "next") - th_clock_now_us();
	char span[TH_TIME_TEXT];

	th_clock_span(left > 0 ? left : 0, span);
	snprintf(text, 96, "waiting: %.30s, attempt %d in %.20s", outcome,
		(int)doc_number(restart, "tries"), span);
}

void state_text(const json_t *container, char text[96])
{
	const char *health = doc_text(container, "health");
	char outcome[64];

	short_outcome(doc_part(container, "outcome"), outcome);
	if (is_state(container, "stopped") && outcome[0])
		snprintf(text, 96, "stopped: %s", outcome);
	else if (is_state(container, "waiting"))
		waiting_text(doc_part(container, "restart"), outcome, text);
	else if (*health && is_state(container, "running"))
		snprintf(text, 96, "running, %.40s", health);
	else
		snprintf(text, 96, "%.90s", doc_text(container, "state"));
}

const char *state_colour(const json_t *container)
{
	const char *health = doc_text(container, "health");
	const json_t *outcome = doc_part(container, "outcome");

	if (is_state(container, "running"))
		return strcmp(health, "ailing") == 0	 ? "red"
			: strcmp(health, "warming") == 0 ? "yellow"
							 : "green";
	if (is_state(container, "paused") || is_state(container, "waiting"))
		return "yellow";
	if (is_state(container, "created"))
		return "cyan";
	/* An orderly end, or one that was asked for, is nothing to look at. */
	if ((strcmp(doc_text(outcome, "kind"), "exited") == 0 &&
		    doc_number(outcome, "exit-code") == 0) ||
		strncmp(doc_text(outcome, "cause"), "stopped", 7) == 0)
		return NULL;
	return "red";
}

void print_each(const json_t *list, const char *key)
{
	const json_t *one;
	size_t i;

	json_array_foreach(list, i, one)
	{
		puts(shown(doc_text(one, key)));
	}
}

void print_json_line(json_t *doc)
{
	char *text = json_shown(doc, JSON_COMPACT);

	if (text)
		puts(text);
	free(text);
	json_decref(doc);
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
