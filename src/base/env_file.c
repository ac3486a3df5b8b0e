#include "base/env_file.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct reading {
	const char *name;
	int line;
	struct th_strings *env;
	const char *(*value_of)(const char *key);
	struct th_buf wrong; /* what is wrong, line by line */
	bool no_memory;
};

static void complain(struct reading *reading, const char *what)
{
	th_buf_addf(&reading->wrong, "%s%s, line %d: %s",
		reading->wrong.len ? "; " : "", reading->name, reading->line,
		what);
}

static size_t key_length(const char *text)
{
	size_t len = 0;

	if (!isalpha((unsigned char)*text) && *text != '_')
		return 0;
	while (isalnum((unsigned char)text[len]) || text[len] == '_' ||
		text[len] == '.' || text[len] == '-')
		len++;
	return len;
}

static const char *skip_blanks(const char *at)
{
	return at + strspn(at, " \t\r");
}

/* A value in quotes; what comes behind them may only be a comment. */
static bool take_quoted(
	struct reading *reading, const char *at, struct th_buf *out)
{
	char quote = *at++;

	for (; *at && *at != quote; at++) {
		if (quote == '"' && *at == '\\' && at[1]) {
			at++;
			th_buf_adds(out,
				*at == 'n'	     ? "\n"
					: *at == 't' ? "\t"
						     : "");
			if (*at != 'n' && *at != 't')
				th_buf_add(out, at, 1);
		} else {
			th_buf_add(out, at, 1);
		}
	}
	if (!*at) {
		complain(reading, "unterminated quote");
		return false;
	}
	at = skip_blanks(at + 1);
	if (*at && *at != '#') {
		complain(reading, "unexpected text after the quoted value");
		return false;
	}
	return true;
}

static void take_bare(const char *at, struct th_buf *out)
{
	const char *end = at;

	while (*end &&
		!(*end == '#' && end > at &&
			(end[-1] == ' ' || end[-1] == '\t')))
		end++;
	while (end > at && strchr(" \t\r", end[-1]))
		end--;
	th_buf_add(out, at, (size_t)(end - at));
}

static void take_line(struct reading *reading, const char *line)
{
	const char *at = skip_blanks(line), *own;
	struct th_buf pair;
	size_t len;
	bool good = true;

	if (!*at || *at == '#')
		return;
	if (strncmp(at, "export", 6) == 0 && (at[6] == ' ' || at[6] == '\t'))
		at = skip_blanks(at + 6);
	len = key_length(at);
	if (!len || (at[len] != '=' && *skip_blanks(at + len))) {
		complain(reading, "expected KEY=VALUE");
		return;
	}
	th_buf_init(&pair, 1 << 20);
	th_buf_add(&pair, at, len);
	if (at[len] == '=') {
		at += len + 1;
		th_buf_adds(&pair, "=");
		if (*at == '"' || *at == '\'')
			good = take_quoted(reading, at, &pair);
		else
			take_bare(at, &pair);
	} else {
		own = reading->value_of ? reading->value_of(pair.data) : NULL;
		if (!own) {
			complain(reading,
				"no value, and not set in your environment");
			good = false;
		} else {
			th_buf_addf(&pair, "=%s", own);
		}
	}
	if (good && (pair.failed || th_strings_add(reading->env, pair.data)))
		reading->no_memory = true;
	th_buf_release(&pair);
}

int th_env_parse(const char *text, const char *name,
	const char *(*value_of)(const char *key), struct th_strings *env,
	struct th_error *err)
{
	struct reading reading = {
		.name = name, .env = env, .value_of = value_of};
	char *copy = strdup(text), *line = copy;
	int rc = 0;

	if (!copy)
		return th_fail_memory(err);
	th_buf_init(&reading.wrong, sizeof(err->msg) - 1);
	while (line) {
		char *end = strchr(line, '\n');

		if (end)
			*end = '\0';
		reading.line++;
		take_line(&reading, line);
		line = end ? end + 1 : NULL;
	}
	free(copy);
	if (reading.wrong.len) {
		rc = th_fail(err, TH_USAGE, "%s", reading.wrong.data);
		th_hint(err,
			"lines are KEY=VALUE, export KEY=\"VALUE\", KEY, or a "
			"# comment");
	} else if (reading.no_memory) {
		rc = th_fail_memory(err);
	}
	th_buf_release(&reading.wrong);
	return rc;
}
