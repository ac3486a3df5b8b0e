#include "base/distance.h"

#include <stddef.h>
#include <string.h>

#define LETTERS_MAX 60

int th_distance(const char *a, const char *b)
{
	int rows[3][LETTERS_MAX + 1], len = (int)strlen(b);
	int *before = rows[0], *above = rows[1], *row = rows[2];

	if (len > LETTERS_MAX || strlen(a) > LETTERS_MAX)
		return 99;
	for (int j = 0; j <= len; j++)
		above[j] = j;
	for (int i = 1; a[i - 1]; i++) {
		int *oldest = before;

		row[0] = i;
		for (int j = 1; j <= len; j++) {
			int least = above[j - 1] + (a[i - 1] != b[j - 1]);

			if (above[j] + 1 < least)
				least = above[j] + 1;
			if (row[j - 1] + 1 < least)
				least = row[j - 1] + 1;
			/* Two swapped letters are one edit. */
			if (i > 1 && j > 1 && a[i - 1] == b[j - 2] &&
				a[i - 2] == b[j - 1] &&
				before[j - 2] + 1 < least)
				least = before[j - 2] + 1;
			row[j] = least;
		}
		before = above;
		above = row;
		row = oldest;
	}
	return above[len];
}

int th_distance_allowed(const char *word, const char *meant)
{
	size_t len = strlen(word);

	if (len < 3 ||
		(word[0] != meant[0] && word[1] != meant[0] &&
			word[0] != meant[1]))
		return 0;
	return len < 6 ? 1 : 2;
}

const char *th_nearest(const char *word, const char *const *words)
{
	const char *found = NULL;
	int least = 99;

	for (; *words; words++) {
		int steps = th_distance(word, *words);

		if (steps < least &&
			steps <= th_distance_allowed(word, *words)) {
			least = steps;
			found = *words;
		}
	}
	return found;
}
