/* Files with several names, on their way into an archive: the first one is the
 * file, the others are links to it. */
#ifndef TH_LAYER_LINKS_H
#define TH_LAYER_LINKS_H

#include <sys/types.h>

#include "base/error.h"

struct th_links {
	void *tree; /* tsearch(3); NULL at first */
};

/* 1 with the name under which the file was seen first (owned by the links); 0
 * where this is the first, which is noted; -1 without memory. */
int th_links_look(struct th_links *links, dev_t device, ino_t number,
	const char *path, const char **first, struct th_error *err);
void th_links_release(struct th_links *links);

#endif
