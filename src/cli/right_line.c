#include "cli/right_line.h"

#include <stdio.h>
#include <string.h>

#include "cli/elsewhere.h"
#include "cli/kinds.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

void put_command_right(const struct verb *verb, struct line *line)
{
	int objects = 0, most = verb->most < 0 ? 1000 : verb->most;

	for (int i = 2; i < line->count; i++) {
		const char *word = line->words[i];
		const struct option_spec *spec;

		if (strcmp(word, "--") == 0)
			return;
		if (strncmp(word, "--", 2) == 0) {
			spec = option_spec(
				verb, word + 2, strcspn(word + 2, "="));
			i += spec && spec->value && !strchr(word, '=');
		} else if (word[0] != '-' && objects++ == most) {
			/* A whole line of a shell is no program. */
			if (strchr(word, ' ') && i + 1 == line->count)
				line_put(line, i, 0, "sh", "-c");
			line_put(line, i, 0, "--", NULL);
			return;
		}
	}
}

/* "adjust web memory=64M", "adjust web restart always": how many words it is
 * longer. */
static int put_change_right(
	const struct verb *verb, struct line *line, int at, struct texts *texts)
{
	static const char parts[] = "memory swap cpu processes io";
	const char *word = line->words[at], *value = strchr(word, '=');
	const char *next = at + 1 < line->count ? line->words[at + 1] : "-";
	char *room;

	if (verb != &verb_adjust || texts->used == TEXTS)
		return 0;
	if (!value && next[0] != '-' &&
		have_word("restart probe limit", word, strlen(word))) {
		char *option = texts->options[texts->used++];

		snprintf(option, 80, "--%.60s", word);
		line_put(line, at, 1, option, NULL);
		return 1;
	}
	if (!value && next[0] != '-' && have_word(parts, word, strlen(word))) {
		room = texts->values[texts->used++];
		snprintf(room, TH_TURNED_TEXT, "%.30s=%.60s", word, next);
		line_put(line, at, 2, "--limit", room);
		return 1;
	}
	if (!value)
		return 0;
	if (strncmp(word, "restart=", 8) == 0)
		line_put(line, at, 1, "--restart", value + 1);
	else if (strncmp(word, "probe=", 6) == 0)
		line_put(line, at, 1, "--probe", value + 1);
	else
		line_put(line, at, 0, "--limit", NULL);
	return 1;
}

static const char *unit_act(const char *word)
{
	return have_word("enable install add", word, strlen(word)) ? "--install"
		: have_word("disable uninstall remove", word, strlen(word))
		? "--remove"
		: NULL;
}

/* The first object, where it says what an option does: how many words stand
 * there now; 0 where it is one. */
static int put_first_right(
	const struct verb *verb, struct line *line, int at, struct texts *texts)
{
	const char *word = line->words[at];
	const char *kind = kind_word(word, strlen(word));
	size_t len = strlen(word);

	if (texts->used == TEXTS)
		return 0;
	/* "clean images" */
	if (verb == &verb_sweep && kind) {
		char *room = texts->values[texts->used++];

		snprintf(room, TH_TURNED_TEXT, "%ss", kind);
		line_put(line, at, 1, "--only", room);
		return 2;
	}
	/* "up harbour.yaml" */
	if (option_spec(verb, "settings", 8) && verb->flags & VERB_COMMAND &&
		len > 5 && strcmp(word + len - 5, ".yaml") == 0) {
		line_put(line, at, 0, "--settings", NULL);
		return 2;
	}
	/* "systemctl enable web" */
	if (verb == &verb_unit && at + 1 < line->count && unit_act(word)) {
		line_put(line, at, 1, unit_act(word), NULL);
		return 1;
	}
	return 0;
}

bool put_line_right(
	const struct verb *verb, struct line *line, struct texts *texts)
{
	int objects = 0;

	/* "remove container web" */
	if (line->count > 3 && line->words[3][0] != '-' &&
		kind_word(line->words[2], strlen(line->words[2])) &&
		kind_is_taken(verb,
			kind_word(line->words[2], strlen(line->words[2]))))
		line_put(line, 2, 1, NULL, NULL);
	for (int at = 2; at < line->count;) {
		const char *word = line->words[at];
		const struct option_spec *spec;

		if (strcmp(word, "--") == 0)
			break;
		if (word[0] != '-' || !word[1]) {
			int words = objects == 0
				? put_first_right(verb, line, at, texts)
				: 0;

			if (words) {
				at += words;
				continue;
			}
			/* What follows is a command without its --. */
			if (objects++ == verb->most &&
				verb->flags & VERB_COMMAND)
				break;
			at += 1 + put_change_right(verb, line, at, texts);
			continue;
		}
		if (word[1] != '-') {
			if (!put_letters_right(verb, line, &at, texts))
				return false;
			continue;
		}
		spec = option_spec(verb, word + 2, strcspn(word + 2, "="));
		/* "--interactive --tty" */
		if (spec && spec->value && !strchr(word, '=') &&
			(at + 1 == line->count ||
				line->words[at + 1][0] == '-') &&
			strstr(spec->help, "yes or no"))
			line_put(line, at + 1, 0, "yes", NULL);
		if (spec) {
			at += 1 + (spec->value && !strchr(word, '='));
			continue;
		}
		if (!put_option_right(verb, line, &at, texts, word + 2,
			    strcspn(word + 2, "="),
			    strchr(word, '=') ? strchr(word, '=') + 1 : NULL))
			return false;
	}
	if (verb->flags & VERB_COMMAND)
		put_command_right(verb, line);
	/* A recipe's files lie beside it. */
	else if (verb == &verb_build && objects > 1)
		line_put(line, line_find(line, "."), 1, NULL, NULL);
	else if (verb->most >= 0 && objects > verb->most)
		return false;
	return true;
}

bool right_values(const struct verb *verb, struct line *line,
	struct texts *texts, struct th_error *err)
{
	for (int at = 2; at + 1 < line->count; at++) {
		const char *word = line->words[at],
			   *value = line->words[at + 1];
		const struct option_spec *spec;
		struct th_error wrong = {0};
		char before[60];
		size_t len;

		if (strcmp(word, "--") == 0)
			break;
		if (strncmp(word, "--", 2) != 0 || strchr(word, '='))
			continue;
		spec = option_spec(verb, word + 2, strlen(word + 2));
		if (!spec || !spec->value ||
			!have_word("port mount host network capability stop "
				   "restart probe log limit device share allow",
				spec->name, strlen(spec->name)) ||
			strcmp(value, "declared") == 0 ||
			th_setting_check(spec->name, value, &wrong) == 0)
			continue;
		len = (size_t)snprintf(
			before, sizeof(before), "it is: --%s ", spec->name);
		if (strncmp(wrong.hint, before, len) != 0 ||
			texts->used == TEXTS) {
			th_hint(err, "%s: %s", word, wrong.hint);
			return false;
		}
		snprintf(texts->values[texts->used], TH_TURNED_TEXT, "%.*s",
			(int)strcspn(
				wrong.hint + len + (wrong.hint[len] == '\''),
				"'"),
			wrong.hint + len + (wrong.hint[len] == '\''));
		line->words[at + 1] = texts->values[texts->used++];
	}
	return true;
}

bool right_line(const struct verb *verb, struct line *line)
{
	/* The line goes on to name them. */
	static struct texts texts;

	memset(&texts, 0, sizeof(texts));
	return put_line_right(verb, line, &texts);
}
