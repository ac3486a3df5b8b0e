/* getopt_long of the C library does what is wanted (long words that may be
 * shortened, options before and after objects), so it serves here. */
#include "cli/options.h"

#include <getopt.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "cli/line.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"
#include "cli/wrong_option.h"

const struct option_spec common_options[] = {
	{"help", NULL, "show help for the verb (-h)"},
	{"json", NULL, "print JSON (-j)"},
	{"quiet", NULL, "print only what a script needs (-q)"},
	{"yes", NULL, "answer yes to all questions (-y)"},
	{"root", "DIR", "use the store in DIR"},
	{"config", "FILE", "use the configuration in FILE"},
	{NULL, NULL, NULL}};

static const struct option_spec table_options[] = {
	{"columns", "LIST",
		"only these columns, in this order: state,container"},
	{"sort", "COLUMN", "by this one; -COLUMN: the other way round"},
	{NULL, NULL, NULL}};

static const struct option_spec watch_options[] = {
	{"watch", NULL, "again every second, until Ctrl-C"},
	{NULL, NULL, NULL}};

static const struct option_spec lines_options[] = {
	{"json-lines", NULL, "print JSON, one document on each line"},
	{NULL, NULL, NULL}};

size_t verb_options(
	const struct verb *verb, const struct option_spec *list[OPTIONS_MAX])
{
	const struct option_spec *const tables[] = {verb->options,
		verb->flags & VERB_TABLE ? table_options : NULL,
		verb->flags & VERB_WATCH ? watch_options : NULL,
		verb->flags & VERB_LINES ? lines_options : NULL,
		common_options};
	size_t count = 0;

	for (size_t t = 0; t < sizeof(tables) / sizeof(*tables); t++) {
		const struct option_spec *spec = tables[t];

		for (; spec && spec->name && count < OPTIONS_MAX; spec++) {
			if (strcmp(spec->name, "json") != 0 ||
				verb->flags & VERB_JSON)
				list[count++] = spec;
		}
	}
	return count;
}

const char *option_value(const struct invocation *call, const char *name)
{
	const char *value = NULL;

	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, name) == 0)
			value = call->options[i].value;
	}
	return value;
}

bool option_given(const struct invocation *call, const char *name)
{
	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, name) == 0)
			return true;
	}
	return false;
}

int option_values(const struct invocation *call, const char *name,
	struct th_strings *list)
{
	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, name) == 0 &&
			th_strings_add(list, call->options[i].value))
			return -1;
	}
	return 0;
}

json_t *option_list(const struct invocation *call, const char *name)
{
	json_t *list = json_array();

	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, name) == 0)
			json_array_append_new(list,
				json_string_nocheck(call->options[i].value));
	}
	return list;
}

static int collect(const struct verb *verb, struct option *all)
{
	const struct option_spec *list[OPTIONS_MAX];
	size_t count = verb_options(verb, list);

	for (size_t i = 0; i < count; i++) {
		all[i].name = list[i]->name;
		all[i].has_arg =
			list[i]->value ? required_argument : no_argument;
	}
	return (int)count;
}

/* "--read-only=true", and what says no. */
static int without_value(
	const struct option_spec *spec, const char *word, struct th_error *err)
{
	static const char *const no[] = {"no", "false", "off", "0"};
	const char *value = strchr(word, '=');
	struct line line;
	char option[80];
	bool stays = true;

	for (size_t i = 0; value && i < sizeof(no) / sizeof(*no); i++)
		stays = stays && strcasecmp(value + 1, no[i]) != 0;
	snprintf(option, sizeof(option), "--%.70s", spec->name);
	line_get(&line);
	line_put(&line, line_find(&line, word), 1, stays ? option : NULL, NULL);
	return line_hint(err, "it is: ", &line);
}

/* "--tty -- sh" */
static int with_yes(const char *word, struct th_error *err)
{
	struct line line;

	line_get(&line);
	line_put(&line, line_find(&line, word) + 1, 0, "yes", NULL);
	return line_hint(err, "it is: ", &line);
}

/* True where another verb has an option of just this name. */
static bool is_elsewhere(const char *name, size_t len)
{
	for (size_t i = 0; verbs[i]; i++) {
		const struct option_spec *spec =
			option_spec(verbs[i], name, len);

		if (spec && strlen(spec->name) == len)
			return true;
	}
	return false;
}

/* getopt says only that something is wrong; this says what. */
static int explain(const struct verb *verb, const char *word,
	const struct option *all, int count, bool lacks, struct th_error *err)
{
	const struct option_spec *spec;
	size_t len = strcspn(word, "=");
	char fits[200] = "";
	int matches = 0;

	if (strncmp(word, "--", 2) != 0)
		return wrong_option(verb, word, err);
	spec = option_spec(verb, word + 2, len - 2);
	/* "recreate --all" is not about what it begins. */
	if (lacks && spec && strlen(spec->name) > len - 2 &&
		is_elsewhere(word + 2, len - 2)) {
		th_fail(err, TH_USAGE, "%s does not have the option %.*s",
			verb->name, (int)len, word);
		return th_hint(err, "see: tidyhull help %s", verb->name);
	}
	if (lacks && spec) {
		th_fail(err, TH_USAGE, "--%s needs a value: --%s %s",
			spec->name, spec->name, spec->value);
		if (strstr(spec->help, "yes or no"))
			return with_yes(word, err);
		return th_hint(err, "%s; see: tidyhull help %s", spec->help,
			verb->name);
	}
	if (spec) {
		th_fail(err, TH_USAGE, "--%s does not take a value",
			spec->name);
		return without_value(spec, word, err);
	}
	for (int i = 0; len > 2 && i < count; i++) {
		size_t used = strlen(fits);

		if (strncmp(all[i].name, word + 2, len - 2) != 0)
			continue;
		matches++;
		snprintf(fits + used, sizeof(fits) - used, "%s--%s",
			used ? ", " : "", all[i].name);
	}
	if (matches < 2)
		return wrong_option(verb, word, err);
	return th_fail(err, TH_USAGE, "%.*s may mean %s", (int)len, word, fits);
}

static bool is_whole_option(const struct verb *verb, const char *word)
{
	size_t len = strlen(word);
	const struct option_spec *spec = len > 2 && strncmp(word, "--", 2) == 0
		? option_spec(verb, word + 2, len - 2)
		: NULL;

	return spec && strlen(spec->name) == len - 2;
}

/* Where getopt has stopped: it moves objects to the end, and is still within a
 * word of several letters, or behind it. */
static const char *stopped_at(char **argv, int end, int letter)
{
	const char *before = argv[optind - 1];

	if (!letter)
		return before;
	for (int i = optind - 1; i <= optind && i < end; i++) {
		if (argv[i][0] == '-' && argv[i][1] != '-' &&
			strchr(argv[i] + 1, letter))
			return argv[i];
	}
	return before;
}

static void take_letter(struct invocation *call, int letter, bool *help)
{
	if (letter == 'h')
		*help = true;
	else if (letter == 'q')
		call->quiet = true;
	else if (letter == 'y')
		call->yes = true;
	else if (letter == 'j')
		call->json = true;
}

static void take_word(struct invocation *call, const char *name,
	const char *value, bool *help)
{
	struct given_option *given;

	if (!value &&
		(strcmp(name, "help") == 0 || strcmp(name, "quiet") == 0 ||
			strcmp(name, "yes") == 0 ||
			strcmp(name, "json") == 0)) {
		take_letter(call, name[0], help);
		return;
	}
	if (strcmp(name, "json-lines") == 0) {
		call->json = call->json_lines = true;
		return;
	}
	given = &call->options[call->option_count++];
	given->name = name;
	given->value = value;
}

static int needless_command(const struct verb *verb, struct th_error *err)
{
	struct line line;

	th_fail(err, TH_USAGE, "%s does not take a command after --",
		verb->name);
	if (verb != &verb_enter)
		return th_hint(err, "see: tidyhull help %s", verb->name);
	line_get(&line);
	line.words[1] = "exec";
	return line_hint(err, "it is: ", &line);
}

static int check_objects(struct invocation *call, struct th_error *err)
{
	const struct verb *verb = call->verb;

	if (call->object_count < verb->least)
		return too_few_objects(call, err);
	if (verb->most >= 0 && call->object_count > verb->most &&
		verb->flags & VERB_COMMAND && !call->has_command)
		return wrong_command(call, err);
	if (verb->most >= 0 && call->object_count > verb->most)
		return wrong_object(call, err);
	if (call->has_command && !(verb->flags & VERB_COMMAND))
		return needless_command(verb, err);
	return 0;
}

int options_parse(struct invocation *call, int argc, char **argv, bool *help,
	struct th_error *err)
{
	struct option all[OPTIONS_MAX + 1] = {{0}};
	int count = collect(call->verb, all), end = 0, index, found;
	const char *letters = call->verb->flags & VERB_JSON ? ":hqyj" : ":hqy";

	while (end < argc && strcmp(argv[end], "--") != 0)
		end++;
	call->has_command = end < argc;
	if (call->has_command) {
		call->command = argv + end + 1;
		call->command_count = argc - end - 1;
		argv[end] = NULL;
	}
	call->options = calloc((size_t)end + 1, sizeof(*call->options));
	if (!call->options)
		return th_fail_memory(err);
	opterr = 0;
	optind = 0;
	for (;;) {
		index = -1;
		found = getopt_long(end, argv, letters, all, &index);
		if (found < 0)
			break;
		if (found == '?' || found == ':')
			return explain(call->verb,
				stopped_at(
					argv, end, found == '?' ? optopt : 0),
				all, count, found == ':', err);
		/* "--name --port 80=8080" */
		if (!found && optarg && optarg == argv[optind - 1] &&
			is_whole_option(call->verb, optarg))
			return explain(call->verb, argv[optind - 2], all, count,
				true, err);
		if (found)
			take_letter(call, found, help);
		else
			take_word(call, all[index].name, optarg, help);
	}
	call->objects = argv + optind;
	call->object_count = end - optind;
	return *help ? 0 : check_objects(call, err);
}

int common_option_words(const char *word)
{
	size_t len = strcspn(word, "=");

	if (word[0] == '-' && word[1] && word[1] != '-')
		return strspn(word + 1, "hqyj") == strlen(word + 1) ? 1 : 0;
	for (const struct option_spec *spec = common_options; spec->name;
		spec++) {
		if (strlen(spec->name) == len - 2 &&
			strncmp(spec->name, word + 2, len - 2) == 0)
			return spec->value && !word[len] ? 2 : 1;
	}
	return 0;
}

void options_release(struct invocation *call)
{
	free(call->options);
	call->options = NULL;
}

int each_option(const struct invocation *call, const char *name,
	int (*take)(void *owner, const char *text, struct th_error *err),
	void *owner, struct th_error *err)
{
	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, name) == 0 &&
			take(owner, call->options[i].value, err))
			return -1;
	}
	return 0;
}
