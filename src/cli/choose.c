#include "cli/choose.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"

int choose_registry(
	void *owner, const char *name, const json_t *hosts, size_t *choice)
{
	size_t count = json_array_size(hosts);
	char line[32];
	unsigned int number = 0;

	(void)owner;
	if (!isatty(0) || !on_terminal())
		return -1;
	fprintf(stderr, "%zu registries have %s\n", count, shown(name));
	for (size_t i = 0; i < count; i++)
		fprintf(stderr, "  %zu  %s/%s\n", i + 1,
			shown(doc_item(hosts, i)), shown(name));
	fputs("which one? ", stderr);
	if (!fgets(line, sizeof(line), stdin) ||
		sscanf(line, "%u", &number) != 1 || number < 1 ||
		number > count)
		return 1;
	*choice = number - 1;
	return 0;
}

bool choose_yes(const char *question)
{
	char line[32];

	if (!isatty(0) || !on_terminal())
		return false;
	fprintf(stderr, "%s [y/n] ", question);
	return fgets(line, sizeof(line), stdin) &&
		(line[0] == 'y' || line[0] == 'Y');
}
