#include "base/size.h"

#include <ctype.h>
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
