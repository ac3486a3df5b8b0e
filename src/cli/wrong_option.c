#include "cli/wrong_option.h"

#include <stdio.h>
#include <string.h>

#include "base/distance.h"
#include "base/turned.h"
#include "cli/kinds.h"
#include "cli/line.h"
#include "cli/options.h"
#include "cli/verbs.h"

/* What becomes of the value. */
enum how {
	SAME,
	PORT, /* turned round, where it is written so */
	MOUNT,
	MEMORY, /* a part of the limits */
	SWAP,
	CPU,
	PROCESSES,
	ADD, /* one more capability */
	FROM_FILE, /* of variables */
	SECONDS,
	SIGNAL,
	LAST, /* without the option, behind all others */
	NO_VALUE,
	SWALLOW, /* the value goes */
	LAUNCH, /* another verb does it */
	NOTHING /* neither option nor value is needed */
};

/* Short letters and words that are usual elsewhere; an option that a verb does
 * not have is not meant there. */
static const struct other {
	const char *words;
	const char *option; /* NULL: it is left out */
	enum how how;
	const char *note; /* said instead of nothing */
} others[] = {{"p publish expose ports", "port", PORT, NULL},
	{"v volume volumes bind", "mount", MOUNT, NULL},
	{"P all-ports every-port", "port", NOTHING,
		"--port declared publishes what the image declares"},
	{"env-file envfile", "env", FROM_FILE, NULL},
	{"e environment", "env", SAME, NULL}, {"u", "user", SAME, NULL},
	{"w cwd directory", "workdir", SAME, NULL},
	{"m memory mem", "limit", MEMORY, NULL}, {"swap", "limit", SWAP, NULL},
	{"cpu cpus", "limit", CPU, NULL},
	{"pids processes", "limit", PROCESSES, NULL},
	{"net networks", "network", SAME, NULL},
	{"cap capabilities add-capability", "capability", ADD, NULL},
	{"policy restart-policy", "restart", SAME, NULL},
	{"health check", "probe", SAME, NULL},
	{"ro readonly", "read-only", NO_VALUE, NULL},
	{"dry-run dry simulate", "plan", NO_VALUE, NULL},
	{"d detach detached background b", "background", NO_VALUE, NULL},
	{"d detach detached background daemon b", "settings", LAUNCH,
		"launch is in the background anyway"},
	{"i interactive t terminal stdin", "tty", NOTHING,
		"input and terminal are passed on by themselves"},
	{"privileged", "allow", NOTHING,
		"what it needs is allowed by --allow and --capability"},
	{"rm remove delete autoremove", "discard", NOTHING,
		"run removes the container when it ends"},
	{"n tail lines head", "last", SAME, NULL},
	{"f", "follow", NO_VALUE, NULL},
	{"t timestamps timestamp", "times", NO_VALUE, NULL},
	{"f", "force", NO_VALUE, NULL}, {"f file", "settings", SAME, NULL},
	{"a", "all", NO_VALUE, NULL},
	{"t time timeout wait grace-period", "grace", SECONDS, NULL},
	{"t timeout time", "at-most", SECONDS, NULL},
	{"s sig n", "signal", SIGNAL, NULL}, {"n", "name", SAME, NULL},
	{"n dry-run", "plan", NO_VALUE, NULL},
	{"no-cache fresh again", "anew", NO_VALUE, NULL},
	{"arg args param parameter", "given", SAME, NULL},
	{"t tag", "name", SAME, NULL}, {"pull", "fetch", SAME, NULL},
	{"o output f file", "runnable", LAST,
		"the file is named without an option"},
	{"volumes v", "only", NOTHING,
		"volumes only go when asked for: tidyhull sweep --only "
		"volumes; "
		"without them"},
	{"n dry-run dry simulate plan", "older-than", NOTHING,
		"sweep shows first what would go, and asks"},
	{"all a", "older-than", NOTHING,
		"sweep takes all that is unused anyway"},
	{"enable", "install", NO_VALUE, NULL},
	{"format o output", "json", SWALLOW, "the other form is JSON"},
	{"r recursive R p archive", "owner", NOTHING,
		"folders are copied with all that is in them"},
	{"no-stream n one single snapshot 1", "once", NO_VALUE, NULL},
	{"graph draw picture chart plot", "drawn", NO_VALUE, NULL},
	{"w", "watch", NO_VALUE, NULL},
	{"f follow w watch live", "once", NOTHING,
		"meter goes on by itself, and --json-lines prints each "
		"reading"},
	{"fields show-only only cols", "columns", SAME, NULL},
	{"order order-by sort-by", "sort", SAME, NULL},
	{"f file i input", NULL, NOTHING,
		"the file is named without an option"},
	{"r recursive v volumes", "force", NOTHING, NULL}};

static bool has_word(const char *words, const char *word, size_t len)
{
	for (const char *at = words; *at; at += *at == ' ') {
		size_t here = strcspn(at, " ");

		if (here == len && strncmp(at, word, len) == 0)
			return true;
		at += here;
	}
	return false;
}

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

static const struct other *other_of(
	const struct verb *verb, const char *name, size_t len)
{
	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		const struct other *one = &others[i];

		if (has_word(one->words, name, len) &&
			(!one->option ||
				option_spec(verb, one->option,
					strlen(one->option))))
			return one;
	}
	return NULL;
}

/* A mistyped one. */
static const struct option_spec *near_option(
	const struct verb *verb, const char *name, size_t len)
{
	const struct option_spec *list[OPTIONS_MAX], *found = NULL;
	size_t count = verb_options(verb, list);
	char word[64];
	int least = len < 5 ? 2 : 3;

	snprintf(word, sizeof(word), "%.*s", (int)len, name);
	for (size_t i = 0; len > 2 && i < count; i++) {
		int steps = th_distance(word, list[i]->name);

		if (steps < least) {
			least = steps;
			found = list[i];
		}
	}
	return found;
}

static bool takes_value(enum how how)
{
	return how < NO_VALUE;
}

/* The value as it is written here; in room where it is another. */
static const char *write_value(
	enum how how, const char *value, char room[TH_TURNED_TEXT])
{
	static const char *const signals[] = {[1] = "HUP",
		[2] = "INT",
		[3] = "QUIT",
		[6] = "ABRT",
		[9] = "KILL",
		[15] = "TERM"};
	static const char *const parts[] = {[MEMORY] = "memory=",
		[SWAP] = "swap=",
		[CPU] = "cpu=",
		[PROCESSES] = "processes=",
		[ADD] = "+",
		[FROM_FILE] = "@file:"};
	int number = 0, end = 0;

	if (how == PORT)
		return th_turned_port(value, room) ? room : value;
	if (how == MOUNT)
		return th_turned_mount(value, room) ? room : value;
	if (sscanf(value, "%d%n", &number, &end) != 1 || value[end])
		number = -1;
	if (how == SIGNAL && number > 0 && number <= 15 && signals[number])
		return signals[number];
	if (how == SECONDS && number >= 0)
		snprintf(room, TH_TURNED_TEXT, "%ds", number);
	else if (how >= MEMORY && how <= FROM_FILE)
		snprintf(room, TH_TURNED_TEXT, "%s%.200s", parts[how], value);
	else
		return value;
	return room;
}

/* Texts of a line that is being put right. */
struct texts {
	char options[16][80], values[16][TH_TURNED_TEXT];
	int used;
	const char *note;
};

/* A kind of objects is no option: "list --images" is "list images", and
 * "show --volume data" is "show volume:data". */
static bool put_kind_right(const struct verb *verb, struct line *line, int *at,
	struct texts *texts, const char *name, size_t len, const char *value)
{
	const char *kind = kind_word(name, len);
	char *room = texts->values[texts->used];
	int words = value ? 1 : 2;
	bool plain;

	if (!kind)
		return false;
	if (verb == &verb_list && strcmp(kind, "group") != 0) {
		texts->used++;
		snprintf(room, TH_TURNED_TEXT, "%ss", kind);
		line_put(line, *at, 1, room, NULL);
		(*at)++;
		return true;
	}
	if (!kind_is_taken(verb, kind) || *at + words > line->count)
		return false;
	/* Their names alone are enough. */
	plain = strcmp(kind, "container") == 0 || strcmp(kind, "image") == 0;
	snprintf(room, TH_TURNED_TEXT, "%s%s%.200s", plain ? "" : kind,
		plain ? "" : ":", value ? value : line->words[*at + 1]);
	texts->used++;
	line_put(line, *at, words, room, NULL);
	(*at)++;
	return true;
}

/* Replaces the option at this place; false where nothing is known of it. */
static bool put_right(const struct verb *verb, struct line *line, int *at,
	struct texts *texts, const char *name, size_t len, const char *value)
{
	const struct other *other = other_of(verb, name, len);
	const struct option_spec *spec = NULL;
	enum how how = other ? other->how : SAME;
	char *option, *room;
	int words = 1;

	if (texts->used == 16)
		return false;
	if (put_kind_right(verb, line, at, texts, name, len, value))
		return true;
	option = texts->options[texts->used];
	room = texts->values[texts->used];
	if (other && other->note)
		texts->note = other->note;
	if (how == LAUNCH)
		line->words[1] = "launch";
	if (how == NOTHING || how == LAUNCH) {
		line_put(line, *at, 1, NULL, NULL);
		return true;
	}
	if (how == LAST) {
		if (!value && *at + 1 == line->count)
			return false;
		words = value ? 1 : 2;
		value = value ? value : line->words[*at + 1];
		line_put(line, *at, words, NULL, NULL);
		line_put(line, line->count, 0, value, NULL);
		return true;
	}
	spec = other ? option_spec(verb, other->option, strlen(other->option))
		     : near_option(verb, name, len);
	if (!spec)
		return false;
	if (!other)
		how = spec->value ? SAME : NO_VALUE;
	texts->used++;
	snprintf(option, 80, "--%s", spec->name);
	if (takes_value(how) && !value) {
		if (*at + 1 >= line->count)
			return false;
		value = line->words[*at + 1];
		words = 2;
	}
	if (how == SWALLOW && !value && *at + 1 < line->count)
		words = 2;
	line_put(line, *at, words, option,
		takes_value(how) ? write_value(how, value, room) : NULL);
	*at += takes_value(how) ? 2 : 1;
	return true;
}

static bool is_upper(const char *word)
{
	return strspn(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789") ==
		strlen(word);
}

/* A cluster of letters, such as -it, -tf or -p8080:80; or a signal. */
static bool put_letters_right(const struct verb *verb, struct line *line,
	int *at, struct texts *texts)
{
	const char *word = line->words[*at];

	if (is_upper(word + 1) && option_spec(verb, "signal", 6) &&
		texts->used < 16) {
		line_put(line, *at, 1, "--signal",
			write_value(SIGNAL, word + 1,
				texts->values[texts->used++]));
		*at += 2;
		return true;
	}
	line_put(line, *at, 1, NULL, NULL);
	for (size_t i = 1; word[i]; i++) {
		const struct other *other = other_of(verb, word + i, 1);
		bool value = other && takes_value(other->how);

		/* The place of the next word, for what takes its place. */
		line_put(line, *at, 0, word, NULL);
		if (!other && strchr("hqyj", word[i])) {
			char *letter;

			if (texts->used == 16)
				return false;
			letter = texts->options[texts->used++];
			snprintf(letter, 80, "-%c", word[i]);
			line->words[(*at)++] = letter;
		} else if (!other ||
			!put_right(verb, line, at, texts, word + i, 1,
				value && word[i + 1]
					? word + i + 1 + (word[i + 1] == '=')
					: NULL)) {
			return false;
		}
		if (value)
			break;
	}
	return true;
}

/* A command that stands there without -- gets one. */
static void put_command_right(const struct verb *verb, struct line *line)
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

/* "adjust web memory=64M", "adjust web restart=always": how many words it is
 * longer. */
static int put_change_right(
	const struct verb *verb, struct line *line, int at, const char *word)
{
	const char *value = strchr(word, '=');

	if (verb != &verb_adjust || !value)
		return 0;
	if (strncmp(word, "restart=", 8) == 0)
		line_put(line, at, 1, "--restart", value + 1);
	else if (strncmp(word, "probe=", 6) == 0)
		line_put(line, at, 1, "--probe", value + 1);
	else
		line_put(line, at, 0, "--limit", NULL);
	return 1;
}

/* All of the line; false where something in it is not understood. */
static bool put_line_right(
	const struct verb *verb, struct line *line, struct texts *texts)
{
	int objects = 0;

	for (int at = 2; at < line->count;) {
		const char *word = line->words[at];
		const struct option_spec *spec;

		if (strcmp(word, "--") == 0)
			break;
		if (word[0] != '-' || !word[1]) {
			/* What follows is a command without its --. */
			if (objects++ == verb->most &&
				verb->flags & VERB_COMMAND)
				break;
			at += 1 + put_change_right(verb, line, at, word);
			continue;
		}
		if (word[1] != '-') {
			if (!put_letters_right(verb, line, &at, texts))
				return false;
			continue;
		}
		spec = option_spec(verb, word + 2, strcspn(word + 2, "="));
		if (spec) {
			at += 1 + (spec->value && !strchr(word, '='));
			continue;
		}
		if (!put_right(verb, line, &at, texts, word + 2,
			    strcspn(word + 2, "="),
			    strchr(word, '=') ? strchr(word, '=') + 1 : NULL))
			return false;
	}
	if (verb->flags & VERB_COMMAND)
		put_command_right(verb, line);
	/* A recipe's files lie beside it. */
	if (verb == &verb_build && objects > 1)
		line_put(line, line_find(line, "."), 1, NULL, NULL);
	return true;
}

bool right_line(const struct verb *verb, struct line *line)
{
	/* The line goes on to name them. */
	static struct texts texts;

	memset(&texts, 0, sizeof(texts));
	return put_line_right(verb, line, &texts);
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
	/* Settings of one that is made already. */
	if ((verb == &verb_start || verb == &verb_restart ||
		    verb == &verb_adjust) &&
		strncmp(word, "--", 2) == 0 &&
		option_spec(&verb_recreate, word + 2, strcspn(word + 2, "="))) {
		line.words[1] = "recreate";
		return line_hint(err,
			"settings are fixed when a container is made; the "
			"same one anew: ",
			&line);
	}
	if (verb == &verb_logs &&
		has_word("--grep --search --match --filter", word,
			strcspn(word, "=")))
		return th_hint(err,
			"other programs find lines: tidyhull logs NAME | grep "
			"TEXT");
	if (!put_line_right(verb, &line, &texts))
		return th_hint(err,
			word[1] != '-' ? "options are long words; see: "
					 "tidyhull help %s"
				       : "see: tidyhull help %s",
			verb->name);
	snprintf(before, sizeof(before), "%s%s",
		texts.note		 ? texts.note
			: word[1] != '-' ? "options are long words"
					 : "it is",
		": ");
	return line_hint(err, before, &line);
}

int wrong_command(const struct invocation *call, struct th_error *err)
{
	const struct verb *verb = call->verb;
	struct texts texts = {.used = 0};
	struct line line;

	line_get(&line);
	/* "create volume data" */
	if (verb == &verb_create && line.count > 2 &&
		(strcmp(line.words[2], "volume") == 0 ||
			strcmp(line.words[2], "network") == 0)) {
		th_fail(err, TH_USAGE, "create is for containers");
		line.words[1] = "new";
		return line_hint(err, "it is: ", &line);
	}
	if (kind_refuse(call, err))
		return -1;
	th_fail(err, TH_USAGE, "the command \"%.100s\" must come after --",
		call->objects[verb->most]);
	if (put_line_right(verb, &line, &texts))
		line_hint(err, "it is: ", &line);
	return th_hint(err, "see: tidyhull help %s", verb->name);
}

/* "copy web /etc/hosts ." and "copy hosts web /etc". */
static int copy_object(
	const struct invocation *call, struct line *line, struct th_error *err)
{
	int at = call->objects[1][0] == '/' ? 0 : 1;
	const char *name = call->objects[at], *path = call->objects[at + 1];
	char text[TH_TURNED_TEXT];

	if (path[0] != '/' || strpbrk(name, "/:"))
		return 0;
	snprintf(text, sizeof(text), "%.60s:%.160s", name, path);
	line_put(line, line_find(line, name), 2, text, NULL);
	return line_hint(err, "it is: ", line);
}

int wrong_object(const struct invocation *call, struct th_error *err)
{
	const struct verb *verb = call->verb;
	const char *more = call->objects[verb->most], *kind;
	char several[16];
	struct line line;

	if (kind_refuse(call, err))
		return -1;
	th_fail(err, TH_USAGE, "unexpected argument \"%s\" for %s", more,
		verb->name);
	line_get(&line);
	if (verb == &verb_copy && copy_object(call, &line, err))
		return -1;
	kind = kind_word(more, strlen(more));
	if (verb == &verb_sweep && kind) {
		snprintf(several, sizeof(several), "%ss", kind);
		line_put(&line, line_find(&line, more), 1, "--only", several);
		return line_hint(err, "it is: ", &line);
	}
	if (verb == &verb_login) {
		line_put(&line, line_find(&line, more), 0, "--user", NULL);
		return line_hint(err, "it is: ", &line);
	}
	/* Its files are those beside the recipe. */
	if (verb == &verb_build && strcmp(more, ".") == 0) {
		line_put(&line, line_find(&line, more), 1, NULL, NULL);
		return line_hint(
			err, "a recipe's files lie beside it: ", &line);
	}
	return th_hint(err, "see: tidyhull help %s", verb->name);
}
