#include "base/size.h"

#include <ctype.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int th_size_parse(const char *text, uint64_t *bytes)
{
	static const char units[] = "KMGT";
	char *end;
	double value;

	if (!isdigit((unsigned char)*text))
		return -1;
	value = strtod(text, &end);
	if (*end) {
		const char *unit = strchr(units, toupper((unsigned char)*end));

		if (!unit || end[1])
			return -1;
		for (const char *at = units; at <= unit; at++)
			value *= 1024;
	}
	if (value < 1 || value > 1e18)
		return -1;
	*bytes = (uint64_t)value;
	return 0;
}

bool th_size_meant(const char *text, char meant[TH_SIZE_EXACT])
{
	size_t len = strlen(text), cut;
	uint64_t bytes;

	if (len < 3 || len >= TH_SIZE_EXACT || (text[len - 1] | 32) != 'b')
		return false;
	cut = (text[len - 2] | 32) == 'i' ? 2 : 1;
	snprintf(meant, TH_SIZE_EXACT, "%.*s", (int)(len - cut), text);
	return th_size_parse(meant, &bytes) == 0;
}

void th_size_exact(uint64_t bytes, char text[TH_SIZE_EXACT])
{
	static const char units[] = "KMGT";
	int unit = -1;

	while (bytes && bytes % 1024 == 0 && unit < 3) {
		bytes /= 1024;
		unit++;
	}
	snprintf(text, TH_SIZE_EXACT, "%" PRIu64 "%.1s", bytes,
		unit < 0 ? "" : units + unit);
}
