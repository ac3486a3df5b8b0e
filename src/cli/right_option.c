/* One option that a verb does not have: what it is here. */
#include <ctype.h>
#include <stdio.h>
#include <string.h>

#include "base/turned.h"
#include "cli/elsewhere.h"
#include "cli/kinds.h"
#include "cli/options.h"
#include "cli/right_line.h"
#include "cli/stray.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

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
		[DROP] = "-",
		[FROM_FILE] = "@file:",
		[ADDRESS] = "NAME,address="};
	int number = 0, end = 0;

	if (how == PORT)
		return th_turned_port(value, room) ? room : value;
	if (how == MOUNT)
		return th_turned_mount(value, room) ? room : value;
	if (sscanf(value, "%d%n", &number, &end) != 1 || value[end])
		number = -1;
	if (how == SIGNAL && number > 0 && number <= 15 && signals[number])
		return signals[number];
	if (how >= MEMORY && how <= PROCESSES && strchr(value, '='))
		return value;
	if (how == SECONDS && number >= 0)
		snprintf(room, TH_TURNED_TEXT, "%ds", number);
	else if (how == IN_MEMORY)
		snprintf(room, TH_TURNED_TEXT, "%.*s=memory:64M",
			(int)strcspn(value, ":,="), value);
	else if (how == HOST && strchr(value, ':') && !strchr(value, '='))
		snprintf(room, TH_TURNED_TEXT, "%.*s=%.180s",
			(int)strcspn(value, ":"), value,
			strchr(value, ':') + 1);
	else if ((how == ADD || how == DROP) && strchr("+-", value[0]))
		return value;
	else if (how < (int)(sizeof(parts) / sizeof(*parts)) && parts[how])
		snprintf(room, TH_TURNED_TEXT, "%s%.200s", parts[how], value);
	else
		return value;
	return room;
}

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
	/* "sweep --images" */
	if (verb == &verb_sweep && option_spec(verb, "only", 4)) {
		texts->used++;
		snprintf(room, TH_TURNED_TEXT, "%ss", kind);
		line_put(line, *at, 1, "--only", room);
		*at += 2;
		return true;
	}
	/* "remove --volumes web" is about what goes with it. */
	if (!kind_is_taken(verb, kind) || *at + words > line->count ||
		(verb == &verb_remove && strlen(kind) < len))
		return false;
	/* "create web2 --image selwick/base": the other word is the name. */
	if (strcmp(kind, "image") == 0 && verb->flags & VERB_COMMAND &&
		*at == 3)
		line_put(line, (*at)++ - 1, 0, "--name", NULL);
	/* Their names alone are enough. */
	plain = strcmp(kind, "container") == 0 || strcmp(kind, "image") == 0;
	snprintf(room, TH_TURNED_TEXT, "%s%s%.200s", plain ? "" : kind,
		plain ? "" : ":", value ? value : line->words[*at + 1]);
	texts->used++;
	line_put(line, *at, words, room, NULL);
	(*at)++;
	return true;
}

/* What an option says stands in an object: behind all others, before the name,
 * or at its end. */
static bool put_in_objects(struct line *line, int at, struct texts *texts,
	enum how how, const char *value)
{
	int words = value ? 1 : 2, last;
	char *room = texts->values[texts->used++];

	if (!value && at + 1 == line->count)
		return false;
	value = value ? value : line->words[at + 1];
	line_put(line, at, words, NULL, NULL);
	last = line->count - 1;
	if (how == LAST) {
		line_put(line, line->count, 0, value, NULL);
		return true;
	}
	if (last < 2 || line->words[last][0] == '-')
		return false;
	if (how == TAG)
		snprintf(room, TH_TURNED_TEXT, "%.120s:%.100s",
			line->words[last], value);
	else
		snprintf(room, TH_TURNED_TEXT, "%.120s/%.120s", value,
			line->words[last]);
	line_put(line, last, 1, room, NULL);
	return true;
}

/* "--command 'ls /'" */
static bool put_behind(struct line *line, int at, const char *value)
{
	int words = value ? 1 : 2, end;

	if (!value && at + 1 == line->count)
		return false;
	value = value ? value : line->words[at + 1];
	/* That one has always the same command. */
	if (strcmp(line->words[1], verb_enter.name) == 0)
		line->words[1] = verb_exec.name;
	line_put(line, at, words, NULL, NULL);
	for (end = at; end < line->count && strcmp(line->words[end], "--");)
		end++;
	/* What stands there is its arguments. */
	if (end < line->count) {
		line_put(line, end + 1, 0, value, NULL);
		return true;
	}
	line_put(line, end, 0, "--", NULL);
	if (strchr(value, ' '))
		line_put(line, line->count, 0, "sh", "-c");
	line_put(line, line->count, 0, value, NULL);
	return true;
}

/* An option that always has the same value, or another option. */
static void put_given(struct line *line, int *at, struct texts *texts,
	const struct elsewhere *other)
{
	char *option = texts->options[texts->used];
	char *room = texts->values[texts->used++];
	bool whole = other->value[0] == '-';
	const char *space = strchr(other->value, ' ');

	snprintf(option, 80, "%s%.*s", whole ? "" : "--",
		whole ? (int)strcspn(other->value, " ") : 60,
		whole ? other->value : other->option);
	snprintf(room, TH_TURNED_TEXT, "%s",
		!whole		? other->value
			: space ? space + 1
				: "");
	line_put(line, *at, 1, option, *room ? room : NULL);
	*at += *room ? 2 : 1;
}

static bool has_objects(const struct line *line)
{
	for (int at = 2; at < line->count; at++) {
		if (line->words[at][0] != '-' &&
			(line->words[at - 1][0] != '-' || at == 3))
			return true;
	}
	return false;
}

static bool takes_file(const struct verb *verb)
{
	const struct option_spec *spec = option_spec(verb, "settings", 8);

	return spec && spec->value;
}

/* "stop -t --all", "restart -it web": what comes next is no value of it. */
static bool fits_letter(
	enum how how, const struct option_spec *spec, const char *next)
{
	bool number =
		how == SECONDS || (spec && strcmp(spec->name, "last") == 0);

	return number ? isdigit((unsigned char)next[0]) != 0
		      : next[0] != '-' || !next[1];
}

/* The word behind an option, or "". */
static const char *next_word(const struct line *line, int at)
{
	return at + 1 < line->count ? line->words[at + 1] : "";
}

/* "-f", "-fx" or "--f". */
static bool is_letter(const char *word)
{
	return word[1] != '-' || strlen(word) == 3;
}

/* What is meant depends on what stands around it. */
static enum how settle(const struct verb *verb, const struct line *line, int at,
	const struct elsewhere *other, const char *value)
{
	static const char states[] =
		"ready end running ended stopped exited healthy";
	const char *next = next_word(line, at);

	if (!other)
		return SAME;
	/* "wait --for web" is about a container, "wait --for ready" is not. */
	if (other->how == UNTIL)
		return value || have_word(states, next, strlen(next)) ? SAME
								      : NOTHING;
	/* "run -v selwick/base" is about talking, not about a mount. */
	if (other->how == MOUNT && !value && is_image_like(next) &&
		!strchr(next, ':'))
		return NOTHING;
	/* "run -f selwick/base" is about force, not about a file. */
	if (other->how == SAME && other->option &&
		strcmp(other->option, "settings") == 0 &&
		(!takes_file(verb) || !strchr(value ? value : next, '.')))
		return NOTHING;
	/* "resume -a web" */
	if (other->how == NO_VALUE && strcmp(other->option, "all") == 0 &&
		verb != &verb_list && has_objects(line))
		return NOTHING;
	return other->how;
}

/* Where no option is wanted. 1: that was it, 0: an option is wanted, -1: it
 * cannot be put right. */
static int put_without_option(struct line *line, int *at, struct texts *texts,
	const struct elsewhere *other, enum how how, const char *value)
{
	const char *next = next_word(line, *at);
	bool swallow = how == NEITHER && !value && *next && *next != '-';

	switch (how) {
	case VERB:
		line->words[1] = other->value;
		/* fallthrough */
	case NOTHING:
	case NEITHER:
		line_put(line, *at, swallow ? 2 : 1, NULL, NULL);
		return 1;
	case GIVEN:
		put_given(line, at, texts, other);
		return 1;
	case COMMAND:
		return put_behind(line, *at, value) ? 1 : -1;
	case LAST:
		/* "pack -f selwick/base base.tar" */
		if (is_letter(line->words[*at]) && !value &&
			is_image_like(next)) {
			line_put(line, *at, 1, NULL, NULL);
			return 1;
		}
		/* fallthrough */
	case FIRST:
	case TAG:
		return put_in_objects(line, *at, texts, how, value) ? 1 : -1;
	default:
		return 0;
	}
}

/* The verb's own option, with its value written as it is here. */
static bool put_own_option(struct line *line, int *at, struct texts *texts,
	const struct option_spec *spec, enum how how, const char *value)
{
	const char *next = next_word(line, *at);
	bool letter = is_letter(line->words[*at]);
	char *option = texts->options[texts->used];
	char *room = texts->values[texts->used++];
	int words = 1;

	snprintf(option, 80, "--%s", spec->name);
	if (takes_value(how) && !value) {
		if (letter && !fits_letter(how, spec, *next ? next : "-")) {
			line_put(line, *at, 1, NULL, NULL);
			return true;
		}
		if (*at + 1 >= line->count)
			return false;
		value = next;
		words = 2;
	}
	if (how == SWALLOW && !value && *next)
		words = 2;
	line_put(line, *at, words, option,
		takes_value(how) ? write_value(how, value, room) : NULL);
	*at += takes_value(how) ? 2 : 1;
	return true;
}

bool put_option_right(const struct verb *verb, struct line *line, int *at,
	struct texts *texts, const char *name, size_t len, const char *value)
{
	const struct elsewhere *other = find_elsewhere(verb, name, len);
	const struct option_spec *spec = NULL;
	enum how how;
	int done;

	if (texts->used == TEXTS)
		return false;
	if (put_kind_right(verb, line, at, texts, name, len, value))
		return true;
	if (other && other->note)
		texts->note = other->note;
	how = settle(verb, line, *at, other, value);
	done = put_without_option(line, at, texts, other, how, value);
	if (done)
		return done > 0;
	spec = other ? option_spec(verb, other->option, strlen(other->option))
		     : near_option(verb, name, len);
	if (!spec)
		return false;
	if (!other)
		how = spec->value ? SAME : NO_VALUE;
	return put_own_option(line, at, texts, spec, how, value);
}

static bool is_upper(const char *word)
{
	return strspn(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789") ==
		strlen(word);
}

/* A cluster of letters, such as -it, -tf or -p8080:80; or a signal. */
bool put_letters_right(const struct verb *verb, struct line *line, int *at,
	struct texts *texts)
{
	const char *word = line->words[*at];
	size_t len = strcspn(word + 1, "=");
	const struct option_spec *spec =
		len > 2 ? option_spec(verb, word + 1, len) : NULL;

	/* "-name north" */
	if (spec && strlen(spec->name) == len && texts->used < TEXTS) {
		char *option = texts->options[texts->used++];

		snprintf(option, 80, "-%.78s", word);
		line_put(line, *at, 1, option, NULL);
		*at += 1 + (spec->value && !word[1 + len]);
		return true;
	}
	if (is_upper(word + 1) && option_spec(verb, "signal", 6) &&
		texts->used < TEXTS) {
		line_put(line, *at, 1, "--signal",
			write_value(SIGNAL, word + 1,
				texts->values[texts->used++]));
		*at += 2;
		return true;
	}
	/* "logs web -20" */
	if (strspn(word + 1, "0123456789") == strlen(word + 1) &&
		option_spec(verb, "last", 4)) {
		line_put(line, *at, 1, "--last", word + 1);
		*at += 2;
		return true;
	}
	line_put(line, *at, 1, NULL, NULL);
	for (size_t i = 1; word[i]; i++) {
		const struct elsewhere *other =
			find_elsewhere(verb, word + i, 1);
		bool value = other && takes_value(other->how);

		/* The place of the next word, for what takes its place. */
		line_put(line, *at, 0, word, NULL);
		if (!other && strchr("hqyj", word[i])) {
			char *letter;

			if (texts->used == TEXTS)
				return false;
			letter = texts->options[texts->used++];
			snprintf(letter, 80, "-%c", word[i]);
			line->words[(*at)++] = letter;
		} else if (!other ||
			!put_option_right(verb, line, at, texts, word + i, 1,
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
