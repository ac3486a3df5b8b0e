#include "cli/stray.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/turned.h"
#include "cli/elsewhere.h"
#include "cli/options.h"
#include "cli/wrong_option.h"

bool is_filler(const char *word)
{
	return have_word("to as and from into in is the of with please now",
		word, strlen(word));
}

bool is_number(const char *text)
{
	return *text && strspn(text, "0123456789") == strlen(text);
}

/* Whether "OPTION FIRST SECOND" was one value with a "=" in it. */
static bool is_pair(const char *option, const char *first, const char *second)
{
	/* Of the last part alone. */
	first += strrchr(first, ',') && !strchr(strrchr(first, ','), '=') &&
			strcmp(option, "--restart") != 0
		? (size_t)(strrchr(first, ',') - first) + 1
		: 0;
	if (strchr(first, '=') || first[0] == '@')
		return false;
	if (strcmp(option, "--port") == 0)
		return is_number(first) && is_number(second);
	if (strcmp(option, "--host") == 0)
		return isxdigit((unsigned char)second[0]) &&
			strpbrk(second, ".:") &&
			strspn(second, "0123456789abcdef.:") == strlen(second);
	if (strcmp(option, "--mount") == 0)
		return first[0] == '/' &&
			(strchr("./~", second[0]) ||
				strncmp(second, "volume:", 7) == 0 ||
				strncmp(second, "memory", 6) == 0);
	if (strcmp(option, "--restart") == 0)
		return strncmp(first, "on-failure", 10) == 0 &&
			is_number(second);
	if (strcmp(option, "--limit") == 0)
		return isdigit((unsigned char)second[0]) != 0;
	return strcmp(option, "--env") == 0 && !getenv(first);
}

bool join_value(const char *word, struct line *line, struct th_error *err)
{
	int at = line_find(line, word);
	const char *value = at > 3 ? line->words[at - 1] : "", *option = value;
	char pair[TH_TURNED_TEXT], name[32];
	bool joined = strncmp(value, "--", 2) == 0 && strchr(value, '=');

	if (at < 4)
		return false;
	if (joined)
		value = strchr(value, '=') + 1;
	else
		option = line->words[at - 2];
	snprintf(name, sizeof(name), "%.*s", (int)strcspn(option, "="), option);
	if (is_pair(name, value, word))
		snprintf(pair, sizeof(pair), "%.120s=%.120s",
			line->words[at - 1], word);
	else if (strcmp(name, "--probe") == 0 ||
		strcmp(name, "--entrypoint") == 0)
		snprintf(pair, sizeof(pair), "%.120s %.120s",
			line->words[at - 1], word);
	else
		return false;
	line_put(line, at - 1, 2, pair, NULL);
	line_hint(err, "it is: ", line);
	return true;
}

bool is_image_like(const char *word)
{
	return strchr(word, '/') && isalnum((unsigned char)word[0]) &&
		!strpbrk(word, " =");
}

bool is_program_word(const char *word)
{
	return have_word("sh bash ash zsh ls cat ps env id top pwd whoami date",
		word, strlen(word));
}

bool dash_words(const struct verb *verb, struct line *line)
{
	static char options[8][80];
	size_t used = 0;

	for (int at = 2; at < line->count && used < 8; at++) {
		const char *word = line->words[at];
		const struct option_spec *spec;
		size_t len = strlen(word);

		if (strcmp(word, "--") == 0)
			break;
		spec = len > 2 ? option_spec(verb, word, len) : NULL;
		if (!spec || strlen(spec->name) != len ||
			(spec->value && at + 1 == line->count))
			continue;
		snprintf(options[used], sizeof(options[used]), "--%.70s", word);
		line->words[at] = options[used++];
		at += spec->value != NULL;
	}
	return used > 0;
}

const char *option_of_value(const char *word)
{
	char turned[TH_TURNED_TEXT];
	size_t key = strcspn(word, "=");

	if (have_word("always never", word, strlen(word)) ||
		strncmp(word, "on-failure", 10) == 0)
		return "--restart";
	if (isdigit((unsigned char)word[0]) && strpbrk(word, "=:") &&
		(th_turned_port(word, turned) ||
			th_setting_check("port", word, NULL) == 0))
		return "--port";
	if (word[0] == '/' && th_setting_check("mount", word, NULL) == 0)
		return "--mount";
	if (strchr("./~", word[0]) && th_turned_mount(word, turned))
		return "--mount";
	return word[key] && isupper((unsigned char)word[0]) &&
			strspn(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") ==
				key
		? "--env"
		: NULL;
}
