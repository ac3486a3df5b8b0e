#include "base/choice.h"

#include <string.h>

int th_choice(const char *word, const char *const *words, size_t count)
{
	for (size_t i = 0; word && i < count; i++) {
		if (strcmp(word, words[i]) == 0)
			return (int)i;
	}
	return -1;
}
