#include "cli/wrong_option.h"

#include <stdio.h>
#include <string.h>

#include "cli/elsewhere.h"
#include "cli/line.h"
#include "cli/options.h"
#include "cli/right_line.h"
#include "cli/verbs.h"

const struct option_spec *option_spec(
	const struct verb *verb, const char *name, size_t len)
{
	const struct option_spec *list[OPTIONS_MAX], *found = NULL;
	size_t all = verb_options(verb, list), count = 0;

	for (size_t i = 0; i < all; i++) {
		if (strncmp(list[i]->name, name, len) != 0)
			continue;
		if (!list[i]->name[len])
			return list[i];
		found = list[i];
		count++;
	}
	return count == 1 && len ? found : NULL;
}

/* Settings of one that is made already: some can be adjusted. */
static bool setting_of_made(const struct verb *verb, const char *word,
	struct line *line, struct th_error *err)
{
	size_t len = strcspn(word, "=");

	/* "start selwick/gauge --name x" */
	if (verb == &verb_start && line->count > 2 &&
		line->words[2][0] != '-' && line->words[2][0] != '/' &&
		strchr(line->words[2], '/')) {
		line->words[1] = "launch";
		if (!right_line(&verb_launch, line))
			return false;
		line_hint(err,
			"start is for what is made already; a new one: ", line);
		return true;
	}
	if ((verb != &verb_start && verb != &verb_restart &&
		    verb != &verb_adjust && verb != &verb_ports) ||
		strncmp(word, "--", 2) != 0)
		return false;
	if (verb == &verb_adjust &&
		have_word("name new-name", word + 2, len - 2))
		return th_hint(err,
			       "another verb does it: tidyhull rename "
			       "CONTAINER NAME") != 0;
	if (verb != &verb_adjust && verb != &verb_ports &&
		(option_spec(&verb_adjust, word + 2, len - 2) ||
			have_word("policy", word + 2, len - 2))) {
		line->words[1] = "adjust";
		if (!right_line(&verb_adjust, line))
			return false;
		line_hint(err, "another verb changes it: ", line);
		return true;
	}
	if (verb == &verb_ports &&
		(line->count < 3 || line->words[2][0] == '-'))
		return th_hint(err,
			       "ports of all that run, with their numbers: "
			       "tidyhull ports") != 0;
	if (verb == &verb_ports &&
		have_word("add publish open", word + 2, len - 2))
		line_put(line, line_find(line, word), 1, "--port", NULL);
	else if (!option_spec(&verb_recreate, word + 2, len - 2))
		return false;
	line->words[1] = "recreate";
	line_hint(err,
		"settings are fixed when a container is made; the same one "
		"anew: ",
		line);
	return true;
}

/* What lists and logs leave to other programs, and one value of all. */
static bool found_by_others(
	const struct verb *verb, const char *word, struct th_error *err)
{
	static const struct {
		const struct verb *verb;
		const char *words, *hint;
	} ways[] = {{&verb_logs, "grep search match filter find pattern",
			    "other programs find lines: tidyhull logs NAME | "
			    "grep TEXT"},
		{&verb_logs, "all a",
			"of several: tidyhull logs NAME NAME; tidyhull list "
			"--all shows the names"},
		{&verb_list, "filter f state status where grep name match",
			"other programs filter: tidyhull list --all | grep "
			"TEXT"},
		{&verb_timeline, "filter f state status where grep event type",
			"other programs filter: tidyhull timeline | grep TEXT"},
		{&verb_timeline, "last n tail lines limit",
			"other programs cut it: tidyhull timeline | tail -n 5"},
		{&verb_login, "password-file p pass",
			"the password is asked for, or read: --password "
			"@stdin, --password @file:PATH"}};
	const char *name = word + strspn(word, "-");

	for (size_t i = 0; i < sizeof(ways) / sizeof(*ways); i++) {
		if (ways[i].verb == verb &&
			have_word(ways[i].words, name, strcspn(name, "=")))
			return th_hint(err, "%s", ways[i].hint) != 0;
	}
	if (verb == &verb_help_verb && word[1] == '-')
		return th_hint(err, "it is: tidyhull help %.*s",
			       (int)strcspn(name, "="), name) != 0;
	return false;
}

/* False where a value of what was left out may stand among the objects. */
static bool keeps_count(const struct verb *verb, const struct line *line)
{
	struct line plain;

	line_get(&plain);
	return !(verb->flags & VERB_COMMAND) || line->count + 1 == plain.count;
}

/* The other verbs that have just this option. */
static bool say_owners(
	const struct verb *verb, const char *word, struct th_error *err)
{
	size_t len = strcspn(word + 2, "=");
	char names[100] = "";
	int count = 0;

	for (size_t i = 0; verbs[i]; i++) {
		const struct option_spec *spec =
			option_spec(verbs[i], word + 2, len);
		size_t used = strlen(names);

		if (verbs[i] == verb || verbs[i] == &verb_oci || !spec ||
			strcmp(spec->name, "all") == 0 ||
			strlen(spec->name) != len || count++ > 3)
			continue;
		snprintf(names + used, sizeof(names) - used, "%s%s",
			used ? ", " : "", verbs[i]->name);
	}
	if (count)
		th_hint(err, "it is an option of %s%s; see: tidyhull help %.*s",
			names, count > 4 ? " and others" : "", (int)len,
			word + 2);
	return count > 0;
}

/* "--port:80=8080", and "run selwick/base sh -c ls": false where it is neither.
 */
static bool stray_marks(const struct verb *verb, const char *word,
	struct line *line, struct th_error *err)
{
	size_t at = strcspn(word, ":");
	char option[80];

	if (word[at] && at > 2 && at < 60 && word[1] == '-' &&
		option_spec(verb, word + 2, at - 2)) {
		snprintf(option, sizeof(option), "%.*s", (int)at, word);
		line_put(line, line_find(line, word), 1, option, word + at + 1);
		line_hint(err, "it is: ", line);
		return true;
	}
	if (strcmp(word, "-c") == 0 && verb->flags & VERB_COMMAND &&
		line->count > 2 && strcmp(line->words[2], word) != 0) {
		int words = line->count;

		put_command_right(verb, line);
		if (line->count == words)
			line_put(line, line_find(line, word), 0, "--", NULL);
		line_hint(
			err, "what is the program's stands behind --: ", line);
		return true;
	}
	return false;
}

/* Where the line is not understood with it. */
static int not_understood(
	const struct verb *verb, const char *word, struct th_error *err)
{
	struct texts texts = {.used = 0};
	struct line line;

	line_get(&line);
	if (word[1] == '-' && say_owners(verb, word, err))
		return -1;
	if (word[1] == '-' && verb == &verb_show) {
		line_put(&line, line_find(&line, word), 1, "--field", word + 2);
		return line_hint(err, "one value of all: ", &line);
	}
	if (word[1] == '-')
		return th_hint(err, "see: tidyhull help %s", verb->name);
	/* Letters that mean nothing here are left out. */
	line_put(&line, line_find(&line, word), 1, NULL, NULL);
	if (put_line_right(verb, &line, &texts) && keeps_count(verb, &line))
		return line_hint(err,
			"there is nothing of that kind here; without it: ",
			&line);
	return th_hint(err, "options are long words; see: tidyhull help %s",
		verb->name);
}

int wrong_option(
	const struct verb *verb, const char *word, struct th_error *err)
{
	struct texts texts = {.used = 0};
	char before[160];
	struct line line;

	th_fail(err, TH_USAGE, "%s does not have the option %.*s", verb->name,
		(int)strcspn(word, "="), word);
	line_get(&line);
	if (stray_marks(verb, word, &line, err) ||
		setting_of_made(verb, word, &line, err) ||
		found_by_others(verb, word, err))
		return -1;
	if (!put_line_right(verb, &line, &texts))
		return not_understood(verb, word, err);
	if (!right_values(verb, &line, &texts, err))
		return -1;
	snprintf(before, sizeof(before), "%s%s",
		texts.note		 ? texts.note
			: word[1] != '-' ? "options are long words"
					 : "it is",
		": ");
	return line_hint(err, before, &line);
}
