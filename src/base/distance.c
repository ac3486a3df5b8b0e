#include "base/distance.h"

#include <string.h>

int th_distance(const char *a, const char *b)
{
	int row[32], len = (int)strlen(b);

	if (len > 30 || strlen(a) > 30)
		return 99;
	for (int j = 0; j <= len; j++)
		row[j] = j;
	for (int i = 1; a[i - 1]; i++) {
		int diagonal = row[0];

		row[0] = i;
		for (int j = 1; j <= len; j++) {
			int changed = diagonal + (a[i - 1] != b[j - 1]);

			diagonal = row[j];
			if (row[j - 1] + 1 < changed)
				changed = row[j - 1] + 1;
			if (row[j] + 1 < changed)
				changed = row[j] + 1;
			row[j] = changed;
		}
	}
	return row[len];
}
