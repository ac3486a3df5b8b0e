/* Objects that are too many or too few, and what was probably meant by them. */
#include "cli/wrong_object.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/turned.h"
#include "cli/elsewhere.h"
#include "cli/kinds.h"
#include "cli/line.h"
#include "cli/options.h"
#include "cli/right_line.h"
#include "cli/stray.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

/* Takes them out of the line; how many there were. */
static int drop_fillers(const struct invocation *call, struct line *line)
{
	int count = 0;

	for (int i = 0; i < call->object_count; i++) {
		const char *word = call->objects[i];

		if (!is_filler(word))
			continue;
		line_put(line, line_find(line, word), 1, NULL, NULL);
		count++;
	}
	return count;
}

/* "create volume data", "launch image selwick/gauge", "start group harbour". */
static bool kind_in_command(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	const char *first = call->objects[0];
	const char *kind = kind_word(first, strlen(first));

	if (!kind || !(call->verb->flags & VERB_STARTS))
		return false;
	if (strcmp(kind, "image") == 0) {
		line_put(line, line_find(line, first), 1, NULL, NULL);
		line_hint(err, "it is: ", line);
	} else if (strcmp(kind, "group") == 0) {
		th_hint(err,
			"a new one from its file: tidyhull launch --settings "
			"FILE; one that is there: tidyhull start group:%.60s",
			call->objects[call->verb->most]);
	}
	return err->hint[0] != '\0';
}

/* "launch selwick/gauge 8080:80": which option it is a value of. */
static bool value_in_command(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	const char *more = call->objects[call->verb->most];
	const char *option = option_of_value(more);
	char value[TH_TURNED_TEXT];
	bool turned;

	if (!option)
		return false;
	turned = strcmp(option, "--port") == 0
		? th_turned_port(more, value)
		: strcmp(option, "--mount") == 0 &&
			th_turned_mount(more, value);
	line_put(line, line_find(line, more), 1, option, turned ? value : more);
	if (!right_line(call->verb, line))
		return false;
	line_hint(err, "it is: ", line);
	return true;
}

/* Names and images that stand where a command would. */
static bool name_in_command(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	const struct verb *verb = call->verb;
	const char *first = call->objects[0], *more = call->objects[verb->most];
	int at = line_find(line, more);

	/* "launch selwick/gauge as north" */
	if (verb != &verb_exec && verb != &verb_capture &&
		have_word("as named called", more, strlen(more)) &&
		at + 2 == line->count) {
		line_put(line, at, 1, "--name", NULL);
		line_hint(err, "it is: ", line);
	} else if (verb == &verb_capture && drop_fillers(call, line)) {
		line_hint(err, "it is: ", line);
	} else if (verb == &verb_recreate && is_image_like(more)) {
		line_put(line, at, 0, "--image", NULL);
		line_hint(err, "it is: ", line);
	} else if (verb->flags & VERB_STARTS && verb != &verb_exec &&
		is_image_like(more)) {
		bool two = is_image_like(first);

		line_put(
			line, two ? at : line_find(line, first), 1, NULL, NULL);
		line_hint(err, two ? "one image at a time: " : "it is: ", line);
	} else if (verb == &verb_exec && call->object_count == 2 &&
		is_program_word(first) && !is_program_word(more)) {
		/* "exec ls web" */
		line_put(line, line_find(line, first), 1, NULL, NULL);
		line_put(line, line_find(line, more), 1, more, "--");
		line_put(line, line->count, 0, first, NULL);
		line_hint(err, "the container comes first: ", line);
	}
	return err->hint[0] != '\0';
}

/* "create selwick/gauge spare": a command, or the name. */
static bool may_be_name(const struct invocation *call, const char *word)
{
	return (call->verb == &verb_create || call->verb == &verb_launch) &&
		call->object_count == call->verb->most + 1 &&
		!option_given(call, "name") && !is_program_word(word) &&
		word[strspn(word, "abcdefghijklmnopqrstuvwxyz0123456789-_")] ==
		'\0';
}

static int missing_dashes(const struct invocation *call, struct th_error *err)
{
	const char *more = call->objects[call->verb->most];
	char before[100];
	struct line line;

	th_fail(err, TH_USAGE, "the command \"%.100s\" must come after --",
		more);
	line_get(&line);
	if (may_be_name(call, more)) {
		line_put(&line, line_find(&line, more), 0, "--name", NULL);
		snprintf(before, sizeof(before),
			"for a command: -- %.40s; for its name: ", more);
		return line_hint(err, before, &line);
	}
	if (right_line(call->verb, &line))
		line_hint(err, "it is: ", &line);
	return th_hint(err, "see: tidyhull help %s", call->verb->name);
}

int wrong_command(const struct invocation *call, struct th_error *err)
{
	const struct verb *verb = call->verb;
	const char *more = call->objects[verb->most];
	struct line line;

	line_get(&line);
	/* "create volume data" */
	if (verb == &verb_create && line.count > 2 &&
		have_word("volume network", line.words[2],
			strlen(line.words[2]))) {
		th_fail(err, TH_USAGE, "create is for containers");
		line.words[1] = "new";
		return line_hint(err, "it is: ", &line);
	}
	if (kind_refuse(call, err))
		return -1;
	th_fail(err, TH_USAGE, "unexpected argument \"%.100s\" for %s", more,
		verb->name);
	if (call->object_count > verb->most + 1 && dash_words(verb, &line)) {
		/* A command that is left over is put right, too. */
		right_line(verb, &line);
		return line_hint(err, "options begin with --: ", &line);
	}
	line_get(&line);
	if (value_in_command(call, &line, err))
		return -1;
	line_get(&line);
	if (kind_in_command(call, &line, err) ||
		(verb != &verb_exec && join_value(more, &line, err)) ||
		name_in_command(call, &line, err))
		return -1;
	th_error_clear(err);
	return missing_dashes(call, err);
}

/* "copy web /etc/hosts ." and "copy hosts web /etc". */
static bool copy_object(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	int at = call->objects[1][0] == '/' ? 0 : 1;
	const char *name = call->objects[at], *path = call->objects[at + 1];
	char text[TH_TURNED_TEXT];

	if (path[0] != '/' || strpbrk(name, "/:"))
		return false;
	snprintf(text, sizeof(text), "%.60s:%.160s", name, path);
	line_put(line, line_find(line, name), 2, text, NULL);
	line_hint(err, "it is: ", line);
	return true;
}

/* "list image selwick/base", "list tags selwick/base", "list images volumes"
 */
static bool list_object(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	const char *first = call->objects[0], *second = call->objects[1];

	if (kind_word(second, strlen(second))) {
		line->count = 3;
		line_hint(err, "one kind at a time: ", line);
	} else if (kind_word(first, strlen(first))) {
		th_hint(err, "it is: tidyhull show %.150s", second);
	} else if (have_word("tag tags", first, strlen(first))) {
		th_hint(err, "it is: tidyhull peek %.150s --tags", second);
	}
	return err->hint[0] != '\0';
}

/* Of verbs that take none, or one. */
static bool lone_object(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	const struct verb *verb = call->verb;
	const char *more = call->objects[verb->most];
	const char *kind = kind_word(more, strlen(more));
	char several[16];
	int at = line_find(line, more);

	if (verb == &verb_sweep && kind) {
		snprintf(several, sizeof(several), "%ss", kind);
		line_put(line, at, 1, "--only", several);
		line_hint(err, "it is: ", line);
	} else if (verb == &verb_sweep && strcmp(more, "all") == 0) {
		line_put(line, at, 1, NULL, NULL);
		line_hint(err, "sweep takes all that is unused anyway: ", line);
	} else if (verb == &verb_sweep) {
		th_hint(err, "one alone: tidyhull remove %.100s", more);
	} else if (verb == &verb_doctor) {
		th_hint(err,
			"it looks at the host; at a container: tidyhull why "
			"%.100s",
			more);
	} else if (verb == &verb_demo) {
		th_hint(err,
			"the tour goes by itself, and takes away all that it "
			"made: tidyhull demo");
	} else if (verb == &verb_login) {
		line_put(line, at, 0, "--user", NULL);
		line_hint(err, "it is: ", line);
	} else if (verb == &verb_enter) {
		line->words[1] = "exec";
		line_put(line, at, 0, "--", NULL);
		line_hint(err, "a program of your choice: ", line);
	} else if (verb == &verb_find || verb == &verb_help_verb) {
		line_put(line, at, line->count - at, NULL, NULL);
		line_hint(err, "one at a time: ", line);
	} else if (verb == &verb_exec && more[0] == '/') {
		line_put(line, at, 0, "--workdir", NULL);
		line_hint(err, "it is: ", line);
	} else if (verb == &verb_exec) {
		line_put(line, at, 1, NULL, NULL);
		line_hint(err, "one container at a time: ", line);
	} else if (verb == &verb_build && strcmp(more, ".") != 0) {
		line_put(line, at, 0, "--name", NULL);
		line_hint(err, "it is: ", line);
	} else if (verb == &verb_build) {
		/* Its files are those beside the recipe. */
		line_put(line, at, 1, NULL, NULL);
		line_hint(err, "a recipe's files lie beside it: ", line);
	}
	return err->hint[0] != '\0';
}

int wrong_object(const struct invocation *call, struct th_error *err)
{
	const struct verb *verb = call->verb;
	const char *more = call->objects[verb->most];
	struct line line;

	if (kind_refuse(call, err))
		return -1;
	th_fail(err, TH_USAGE, "unexpected argument \"%s\" for %s", more,
		verb->name);
	line_get(&line);
	if (dash_words(verb, &line))
		return line_hint(err, "options begin with --: ", &line);
	line_get(&line);
	if (verb->most > 0 && option_spec(verb, "name", 4) &&
		have_word("as named called", more, strlen(more)) &&
		call->object_count > verb->most + 1) {
		line_put(&line, line_find(&line, more), 1, "--name", NULL);
		return line_hint(err, "it is: ", &line);
	}
	if (verb->most > 0 && drop_fillers(call, &line))
		return line_hint(err, "it is: ", &line);
	if ((verb == &verb_copy && copy_object(call, &line, err)) ||
		(verb == &verb_list && list_object(call, &line, err)) ||
		join_value(more, &line, err) ||
		(verb->flags & VERB_STARTS &&
			value_in_command(call, &line, err)))
		return -1;
	line_get(&line);
	if (lone_object(call, &line, err))
		return -1;
	return th_hint(err, "see: tidyhull help %s", verb->name);
}

int too_few_objects(const struct invocation *call, struct th_error *err)
{
	const struct verb *verb = call->verb;
	char first[TH_TURNED_TEXT];
	struct line line;
	int at;

	th_fail(err, TH_USAGE, "%s needs more arguments: tidyhull %s %s",
		verb->name, verb->name, verb->usage);
	line_get(&line);
	at = line.count;
	if (verb == &verb_exec && call->has_command &&
		call->command_count > 1 && !strchr(call->command[0], '/') &&
		!is_program_word(call->command[0])) {
		/* "exec -- web ls" */
		for (at = 2; at < line.count && strcmp(line.words[at], "--");)
			at++;
		line_put(&line, at, 2, call->command[0], "--");
		return line_hint(err, "the container comes first: ", &line);
	}
	if (verb == &verb_exec && call->has_command) {
		line_put(&line, 2, 0, "NAME", NULL);
		return line_hint(err, "the container comes first: ", &line);
	}
	/* "tag selwick/gauge=mine", "rename web,pier" */
	if ((verb == &verb_tag || verb == &verb_rename) &&
		call->object_count == 1 && strpbrk(call->objects[0], "=,")) {
		const char *word = call->objects[0];

		snprintf(first, sizeof(first), "%.*s", (int)strcspn(word, "=,"),
			word);
		line_put(&line, line_find(&line, word), 1, first,
			strpbrk(word, "=,") + 1);
		return line_hint(err, "it is: ", &line);
	}
	if (verb == &verb_copy && call->object_count == 1 &&
		strchr(call->objects[0], ':')) {
		line_put(&line, at, 0, ".", NULL);
		return line_hint(err, "to the folder you are in: ", &line);
	}
	if (verb == &verb_pack && call->object_count == 1 && !isatty(1) &&
		is_image_like(call->objects[0]) &&
		!strstr(call->objects[0], ".tar")) {
		line_put(&line, at, 0, "-", NULL);
		return line_hint(err, "to standard output: ", &line);
	}
	if (verb == &verb_unpack && !isatty(0)) {
		line_put(&line, at, 0, "-", NULL);
		return line_hint(err, "from standard input: ", &line);
	}
	return th_hint(err, "see: tidyhull help %s", verb->name);
}

void hint_swapped(const struct invocation *call, struct th_error *err)
{
	bool container =
		call->verb == &verb_rename || call->verb == &verb_capture;
	struct th_error none = {0};

	if (err->code != TH_NOT_FOUND || call->object_count != 2 ||
		th_object(call->hull, call->objects[1],
			container ? TH_KIND_CONTAINER : TH_KIND_IMAGE, TH_BRIEF,
			NULL, &none))
		return;
	err->hint[0] = '\0';
	th_hint(err, "what is there comes first: tidyhull %s %.120s %.120s",
		call->verb->name, call->objects[1], call->objects[0]);
}
