/* Before a verb runs: words that nothing is called, where it is seen why. */
#include <ctype.h>
#include <stdio.h>
#include <string.h>

#include "base/turned.h"
#include "cli/elsewhere.h"
#include "cli/kinds.h"
#include "cli/line.h"
#include "cli/options.h"
#include "cli/output.h"
#include "cli/stray.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"
#include "cli/wrong_option.h"

static bool exists(const struct invocation *call, const char *name)
{
	struct th_error none = {0};

	return th_object(call->hull, name,
		       TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_VOLUME |
			       TH_KIND_NETWORK | TH_KIND_SESSION |
			       TH_KIND_GROUP,
		       TH_BRIEF, NULL, &none) == 0;
}

/* "web,work", "web work" */
static int refuse_joined(const char *word, struct line *line, char *room,
	size_t size, struct th_error *err)
{
	int at = line_find(line, word);
	char *part, *rest = NULL;

	th_fail(err, TH_USAGE, "\"%.100s\" is one word: names stand apart",
		word);
	snprintf(room, size, "%s", word);
	line_put(line, at, 1, NULL, NULL);
	for (part = strtok_r(room, ", ", &rest); part;
		part = strtok_r(NULL, ", ", &rest))
		line_put(line, at++, 0, part, NULL);
	return line_hint(err, "it is: ", line);
}

/* "--grace 3 seconds" */
static bool is_unit(const struct line *line, int at)
{
	const char *word;

	if (at < 4 || at >= line->count)
		return false;
	word = line->words[at];
	return have_word(
		       "s sec secs second seconds m min mins minute minutes h "
		       "hour hours d day days",
		       word, strlen(word)) &&
		is_number(line->words[at - 1]) && line->words[at - 2][0] == '-';
}

static bool is_option_word(const struct invocation *call, const char *word)
{
	const struct option_spec *spec =
		option_spec(call->verb, word, strlen(word));

	return spec && strcmp(spec->name, word) == 0;
}

/* Of those that take a time, the one that is not given yet; NULL. */
static const char *span_option(const struct invocation *call)
{
	static const char *const names[] = {
		"--since", "--grace", "--at-most", NULL};

	for (size_t i = 0; names[i]; i++) {
		const char *name = names[i] + 2;
		const struct option_spec *spec =
			option_spec(call->verb, name, strlen(name));

		if (spec && strcmp(spec->name, name) == 0 &&
			!option_given(call, name))
			return names[i];
	}
	return NULL;
}

/* "logs web 10m" */
static bool is_span(const struct invocation *call, const char *word)
{
	size_t len = strspn(word, "0123456789");

	return span_option(call) && len && word[len] &&
		strchr("smhd", word[len]) && !word[len + 1];
}

/* "wait web ready" */
static bool is_wait_word(const struct invocation *call, const char *word)
{
	return call->verb == &verb_wait && call->object_count > 1 &&
		!option_given(call, "until") &&
		have_word("ready end healthy", word, strlen(word));
}

/* One that is no name, where it is seen why; 0 otherwise. */
static int refuse_word(
	const struct invocation *call, const char *word, struct th_error *err)
{
	static char room[TH_TURNED_TEXT];
	bool all = option_spec(call->verb, "all", 3) != NULL;
	const char *kind = kind_word(word, strlen(word));
	struct line line;
	int at;

	line_get(&line);
	at = line_find(&line, word);
	if (at < 0 || strlen(word) >= sizeof(room))
		return 0;
	if (strpbrk(word, ", ") && !strchr(word, '='))
		return refuse_joined(word, &line, room, sizeof(room), err);
	if (strpbrk(word, "*?[")) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" is a pattern: names are whole", word);
		return th_hint(err,
			all ? "give them one after another, or --all"
			    : "give them one after another");
	}
	th_fail(err, TH_USAGE, "there is no object \"%.100s\"", word);
	if (is_option_word(call, word) && dash_words(call->verb, &line))
		return line_hint(err, "options begin with --: ", &line);
	line_get(&line);
	if (is_span(call, word)) {
		line_put(&line, at, 1, span_option(call), word);
		return line_hint(err, "it is: ", &line);
	}
	if (call->verb == &verb_show && !kind && verb_called(word)) {
		/* "show ports web" */
		line.words[1] = verb_called(word)->name;
		line_put(&line, at, 1, NULL, NULL);
		return line_hint(err, "it is: ", &line);
	}
	if (call->verb == &verb_ports)
		return th_hint(err,
			"ports of all that run, with their numbers: tidyhull "
			"ports");
	if (call->verb == &verb_logs && is_number(word)) {
		line_put(&line, at, 1, "--last", word);
		return line_hint(err, "it is: ", &line);
	}
	if (is_wait_word(call, word)) {
		line_put(&line, at, 1, "--until",
			strcmp(word, "end") == 0 ? "end" : "ready");
		return line_hint(err, "it is: ", &line);
	}
	if (call->verb == &verb_wait && is_number(word)) {
		snprintf(room, sizeof(room), "%ss", word);
		line_put(&line, at, 1, "--at-most", room);
		return line_hint(err, "it is: ", &line);
	}
	if (call->verb == &verb_remove && kind)
		return th_hint(err,
			"what is unused of these: tidyhull sweep --only %ss",
			kind);
	if (is_unit(&line, at)) {
		snprintf(room, sizeof(room), "%s%c", line.words[at - 1],
			tolower((unsigned char)word[0]));
		line_put(&line, at - 1, 2, room, NULL);
	} else if (strcmp(word, "now") == 0 &&
		option_spec(call->verb, "grace", 5)) {
		line_put(&line, at, 1, "--grace", "0");
	} else {
		line_put(&line, at, 1, NULL, NULL);
	}
	return line_hint(err, "it is: ", &line);
}

/* "remove images --all": the option is about containers, and takes no names. */
static int refuse_with_all(const struct invocation *call, struct th_error *err)
{
	const char *first = call->object_count ? call->objects[0] : "";
	const char *kind = kind_word(first, strlen(first));
	struct line line;

	if (!*first || !option_given(call, "all") ||
		!kind_is_taken(call->verb, "container") ||
		call->verb == &verb_list)
		return 0;
	th_fail(err, TH_USAGE, "--all takes no names, and \"%.100s\" is there",
		first);
	line_get(&line);
	if (dash_words(call->verb, &line))
		return line_hint(err, "options begin with --: ", &line);
	if (kind && call->verb == &verb_remove &&
		strcmp(kind, "container") != 0)
		return th_hint(err,
			"--all is about containers; what is unused of these: "
			"tidyhull sweep --only %ss",
			kind);
	if (is_span(call, first)) {
		line_get(&line);
		line_put(&line, line_find(&line, first), 0, span_option(call),
			NULL);
		return line_hint(err, "it is: ", &line);
	}
	return th_hint(err, "give either the names, or --all");
}

/* A port, or a time. */
static bool is_number_for(const struct invocation *call, const char *word)
{
	const struct verb *verb = call->verb;

	return (verb == &verb_ports || verb == &verb_wait ||
		       (verb == &verb_logs && !option_given(call, "last"))) &&
		is_number(word);
}

/* What is looked at, before whose it is. */
static bool is_verb_for(const struct invocation *call, int at)
{
	const struct verb *verb = verb_called(call->objects[at]);

	return call->verb == &verb_show && at == 0 && call->object_count > 1 &&
		verb && verb != &verb_show && kind_is_taken(verb, "container");
}

static bool works_on_names(const struct verb *verb)
{
	return verb->flags & VERB_STORE &&
		(kind_is_taken(verb, "container") ||
			kind_is_taken(verb, "image"));
}

/* What an option of this name never takes. */
static bool is_odd_value(const char *name, const char *value)
{
	if (have_word("grace at-most since last", name, strlen(name)))
		return !isdigit((unsigned char)value[0]);
	if (strcmp(name, "limit") == 0)
		return !strchr(value, '=');
	if (strcmp(name, "signal") == 0)
		return islower((unsigned char)value[0]) != 0;
	if (strcmp(name, "stream") == 0)
		return !have_word("out err", value, strlen(value));
	return strcmp(name, "restart") == 0 &&
		strncmp(value, "never", 5) != 0 &&
		strncmp(value, "always", 6) != 0 &&
		strncmp(value, "on-", 3) != 0;
}

/* "run 1000 --user selwick/base", "show state --field web" */
static bool may_be_swapped(const struct verb *verb,
	const struct given_option *given, const char *object)
{
	if (is_odd_value(given->name, given->value) ||
		(verb == &verb_show && strcmp(given->name, "field") == 0))
		return true;
	return kind_is_taken(verb, "image") && is_image_like(given->value) &&
		!is_image_like(object);
}

/* "stop 2s --grace web": an object and a value have changed places. */
static int refuse_swapped(const struct invocation *call, struct th_error *err)
{
	const char *object = call->object_count ? call->objects[0] : "";

	for (int i = 0; *object && i < call->option_count; i++) {
		const char *value = call->options[i].value;
		struct line line;
		int one, other;

		if (!value ||
			!may_be_swapped(
				call->verb, &call->options[i], object) ||
			!exists(call, value) || exists(call, object))
			continue;
		line_get(&line);
		one = line_find(&line, object);
		other = line_find(&line, value);
		if (one < 0 || other < 0)
			continue;
		line.words[one] = value;
		line.words[other] = object;
		th_fail(err, TH_USAGE,
			"\"%.100s\" is not a value of --%s, but the name of "
			"something",
			value, call->options[i].name);
		return line_hint(err, "it is: ", &line);
	}
	return 0;
}

/* "launch help" */
static int refuse_help(const struct invocation *call, struct th_error *err)
{
	if (call->object_count != 1 || call->has_command ||
		strcmp(call->objects[0], "help") != 0 ||
		!works_on_names(call->verb) || exists(call, "help"))
		return 0;
	th_fail(err, TH_USAGE, "there is no object \"help\"");
	return th_hint(err, "it is: tidyhull help %s", call->verb->name);
}

int objects_refuse(const struct invocation *call)
{
	const struct verb *verb = call->verb;
	struct th_error err = {0};

	if (kind_refuse_unknown(call, &err) || refuse_help(call, &err) ||
		refuse_with_all(call, &err) ||
		(works_on_names(verb) && refuse_swapped(call, &err)))
		return say_error(&err);
	/* Others make names, or take files. */
	if ((verb->most >= 0 && verb != &verb_timeline) ||
		verb->flags & VERB_COMMAND || !kind_is_taken(verb, "container"))
		return EXIT_DONE;
	for (int i = 0; i < call->object_count; i++) {
		const char *word = call->objects[i];
		bool odd = strpbrk(word, ", *?[") != NULL ||
			is_number_for(call, word) ||
			(verb == &verb_remove &&
				kind_word(word, strlen(word)) != NULL) ||
			is_verb_for(call, i) || is_option_word(call, word) ||
			is_span(call, word) || is_wait_word(call, word) ||
			(call->object_count > 1 && is_filler(word));
		struct th_error joined = {0};
		struct line line;

		line_get(&line);
		if (verb == &verb_adjust && !exists(call, word) &&
			join_value(word, &line, &joined)) {
			th_fail(&err, TH_USAGE, "there is no object \"%.100s\"",
				word);
			th_hint(&err, "%s", joined.hint);
			return say_error(&err);
		}
		line_get(&line);
		if ((odd || is_unit(&line, line_find(&line, word))) &&
			!exists(call, word) && refuse_word(call, word, &err))
			return say_error(&err);
	}
	return EXIT_DONE;
}
