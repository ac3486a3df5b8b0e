#include "layer/links.h"

#include <search.h>
#include <stdlib.h>
#include <string.h>

struct link {
	dev_t device;
	ino_t number;
	char path[];
};

static int compare(const void *one, const void *other)
{
	const struct link *a = one, *b = other;

	if (a->device != b->device)
		return a->device < b->device ? -1 : 1;
	return a->number < b->number ? -1 : a->number > b->number;
}

int th_links_look(struct th_links *links, dev_t device, ino_t number,
	const char *path, const char **first, struct th_error *err)
{
	size_t len = strlen(path);
	struct link *own = malloc(sizeof(*own) + len + 1), *const * found;

	if (!own)
		return th_fail_memory(err);
	own->device = device;
	own->number = number;
	memcpy(own->path, path, len + 1);
	found = tsearch(own, &links->tree, compare);
	if (!found) {
		free(own);
		return th_fail_memory(err);
	}
	if (*found == own)
		return 0;
	free(own);
	*first = (*found)->path;
	return 1;
}

void th_links_release(struct th_links *links)
{
	tdestroy(links->tree, free);
	links->tree = NULL;
}
