#include "base/distance.h"

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
