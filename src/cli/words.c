#include "cli/words.h"

#include <string.h>

#include "cli/doc.h"
#include "tidyhull/container.h"

const json_t *setting_words(void)
{
	static json_t *words;

	if (!words)
		th_settings(&words, NULL);
	return words;
}

const json_t *setting_word(const char *name)
{
	const json_t *words = setting_words(), *word;
	size_t i;

	json_array_foreach(words, i, word)
	{
		if (strcmp(doc_text(word, "name"), name) == 0)
			return word;
	}
	return NULL;
}

bool is_kind(const json_t *word, const char *kind)
{
	return strcmp(doc_text(word, "kind"), kind) == 0;
}

bool joins(const json_t *word, const char *how)
{
	return strcmp(doc_text(word, "joins"), how) == 0;
}

bool is_same_place(const char *one, const char *other)
{
	size_t len = strcspn(one, "="), own = strcspn(other, "=");
	const char *slash = strstr(one, "/udp"),
		   *second = strstr(other, "/udp");

	return len == own && strncmp(one, other, len) == 0 &&
		(*one == '/' || !slash == !second);
}
