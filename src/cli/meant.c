/* Which verb was meant by a word that is none. */
#include <stdio.h>
#include <string.h>
#include <strings.h>

#include "base/distance.h"
#include "cli/elsewhere.h"
#include "cli/kinds.h"
#include "cli/line.h"
#include "cli/right_line.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

#define MEANT_MAX 4

static bool is_called(const struct verb *verb, const char *word)
{
	return verb->called && have_word(verb->called, word, strlen(word));
}

/* Those that people call so. */
static int called(const char *word, const struct verb *found[MEANT_MAX])
{
	int count = 0;

	for (size_t i = 0; verbs[i] && count < MEANT_MAX; i++) {
		if (strcasecmp(verbs[i]->name, word) == 0) {
			found[0] = verbs[i];
			return 1;
		}
		if (is_called(verbs[i], word))
			found[count++] = verbs[i];
	}
	return count;
}

const struct verb *verb_called(const char *word)
{
	const struct verb *found[MEANT_MAX];

	return called(word, found) == 1 ? found[0] : NULL;
}

/* Short words are near to each other whatever they mean. */
static const struct verb *nearest(const char *word)
{
	const struct verb *best = NULL;
	size_t len = strlen(word);
	int least = len < 4 ? 1 : len < 7 ? 2 : 3;

	/* What undoes it is not near to it. */
	if (strncmp(word, "un", 2) == 0 &&
		strcmp(word + 2, verb_pause.name) == 0)
		return &verb_resume;
	for (size_t i = 0; verbs[i]; i++) {
		int steps = verbs[i]->flags & VERB_HIDDEN
			? 99
			: th_distance(word, verbs[i]->name);

		if (len >= 3 && strncmp(word, verbs[i]->name, len) == 0)
			steps = 1;
		else if (len < 6 && steps > 1)
			continue;
		/* Of two that are as near, the one that ends so, too. */
		if (best && steps == least && len > 2 &&
			word[len - 1] != best->name[strlen(best->name) - 1] &&
			word[len - 1] ==
				verbs[i]->name[strlen(verbs[i]->name) - 1])
			best = verbs[i];
		if (steps < least || (steps == 1 && least == 1 && len > 2)) {
			least = steps;
			best = verbs[i];
		}
	}
	return best;
}

/* What is done with objects of a kind; with containers all of it. */
static bool is_act_on(const char *kind, const char *act)
{
	static const char *const acts[] = {"show", "remove", NULL};
	static const char *const image_acts[] = {"pull", "push", "tag", "pack",
		"unpack", "build", "peek", "find", "capture", "changes", NULL};
	const char *const *lists[] = {
		acts, strcmp(kind, "image") == 0 ? image_acts : acts};

	if (strcmp(kind, "container") == 0 || strcmp(kind, "group") == 0)
		return true;
	for (size_t i = 0; i < 2; i++) {
		for (const char *const *one = lists[i]; *one; one++) {
			if (strcmp(*one, act) == 0)
				return true;
		}
	}
	return false;
}

/* "volume create data" and the like. */
static bool meant_kind(struct line *line, struct th_error *err)
{
	const char *kind = kind_word(line->words[1], strlen(line->words[1]));
	const char *next = line->count > 2 ? line->words[2] : "list";
	const struct verb *found[MEANT_MAX];
	int count = called(next, found);
	bool makes = kind &&
		(strcmp(kind, "volume") == 0 || strcmp(kind, "network") == 0);
	char several[16];

	if (!kind)
		return false;
	if (strcmp(kind, "network") == 0 && line->count > 4 &&
		(strcmp(next, "connect") == 0 || strcmp(next, "join") == 0)) {
		th_hint(err,
			"networks are fixed when a container is made; the same "
			"one anew: tidyhull recreate %.60s --network %.60s",
			line->words[4], line->words[3]);
		return true;
	}
	if (makes &&
		(count == 0 ? strcmp(next, "make") == 0
			    : strcmp(found[0]->name, "create") == 0 ||
					strcmp(found[0]->name, "new") == 0)) {
		line_put(line, 1, 2, "new", kind);
	} else if (count == 0 || strcmp(found[0]->name, "list") == 0) {
		snprintf(several, sizeof(several), "%ss", kind);
		line_put(line, 1, line->count > 2 && count ? 2 : 1, "list",
			strcmp(kind, "group") == 0 ? "--tree" : several);
		if (!count || !right_line(&verb_list, line))
			line->count = 3;
	} else if (is_act_on(kind, found[0]->name)) {
		line_put(line, 1, 2, found[0]->name, NULL);
		if (!right_line(found[0], line))
			line->count = 2;
	} else {
		return false;
	}
	line_hint(err, "it is: ", line);
	return true;
}

/* "info changes web": the first word says where, the second what is wanted. */
static bool meant_second(
	const struct verb *first, struct line *line, struct th_error *err)
{
	const struct verb *verb;

	if (first->most != 0 || line->count < 3 || line->words[2][0] == '-')
		return false;
	verb = verb_called(line->words[2]);
	if (!verb)
		return false;
	line_put(line, 1, 2, verb->name, NULL);
	if (!right_line(verb, line))
		line->count = 2;
	line_hint(err, "it is: ", line);
	return true;
}

/* "web stop", and "launch selwick/gauge" as one word. */
static bool meant_order(
	const char *word, struct line *line, struct th_error *err)
{
	static char room[200];
	const struct verb *verb;
	char *part, *rest = NULL;

	if (strchr(word, ' ') && strlen(word) < sizeof(room)) {
		int at = 1;

		snprintf(room, sizeof(room), "%s", word);
		part = strtok_r(room, " ", &rest);
		if (!part || !verb_lookup(part))
			return false;
		line_put(line, 1, 1, NULL, NULL);
		for (; part; part = strtok_r(NULL, " ", &rest))
			line_put(line, at++, 0, part, NULL);
		line_hint(err, "each word stands for itself: ", line);
		return true;
	}
	/* Mistyped, and not in the wrong place. */
	verb = nearest(word);
	if (verb && th_distance(word, verb->name) == 1)
		return false;
	verb = line->count > 2 ? verb_lookup(line->words[2]) : NULL;
	if (!verb || verb->most == 0)
		return false;
	line->words[1] = verb->name;
	/* "image run selwick/base": what kind it is says nothing. */
	if (kind_word(word, strlen(word)))
		line_put(line, 2, 1, NULL, NULL);
	else
		line->words[2] = word;
	line_hint(err, "the verb comes first: ", line);
	return true;
}

static void say_several(const struct verb *const *found, int count)
{
	for (int i = 0; i < count; i++) {
		char head[120];

		snprintf(head, sizeof(head), "tidyhull %s %s", found[i]->name,
			found[i]->usage);
		fprintf(stderr, "  %-34s  %s\n", head, found[i]->summary);
	}
}

void verb_unknown(const char *word, bool json)
{
	const struct verb *found[MEANT_MAX];
	int count = called(word, found);
	struct th_error err = {0};
	struct line line;

	line_get(&line);
	/* "help ps" asks for the word alone. */
	if (line.count > 2 && strcmp(line.words[1], word) != 0) {
		line.words[1] = word;
		line.count = 2;
	}
	th_fail(&err, TH_USAGE, "there is no verb \"%.60s\"", word);
	if (strcasecmp(word, "version") == 0 || strcmp(word, "-v") == 0 ||
		strcmp(word, "-V") == 0) {
		th_hint(&err, "tidyhull --version prints it");
	} else if (word[0] == '-' && word[1] == '-' &&
		near_option(&verb_list, word + 2, strcspn(word + 2, "="))) {
		th_hint(&err, "it is: --%s",
			near_option(
				&verb_list, word + 2, strcspn(word + 2, "="))
				->name);
	} else if (word[0] == '-') {
		th_hint(&err,
			"options stand behind a verb, such as: tidyhull launch "
			"IMAGE --port 80=8080");
	} else if (count == 1 && meant_second(found[0], &line, &err)) {
		/* It is said. */
	} else if (!meant_kind(&line, &err) && count < 2 &&
		!(count == 0 && meant_order(word, &line, &err))) {
		const struct verb *verb = count ? found[0] : nearest(word);

		line_put(&line, 1, 1, verb ? verb->name : NULL, NULL);
		/* Options that it does not have are rather left out. */
		if (verb && !right_line(verb, &line))
			line.count = 2;
		if (verb)
			line_hint(&err,
				count ? "it is: " : "did you mean: ", &line);
	}
	if (!err.hint[0] && count < 2)
		th_hint(&err, "tidyhull help lists all verbs");
	if (json && !err.hint[0])
		th_hint(&err, "tidyhull %s or tidyhull %s", found[0]->name,
			found[1]->name);
	if (json)
		say_errors_as_json();
	say_error(&err);
	if (!err.hint[0])
		say_several(found, count);
}
