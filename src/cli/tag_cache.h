/* The tags of repositories, for completion: asked of their registries, and kept
 * for a while. */
#ifndef CLI_TAG_CACHE_H
#define CLI_TAG_CACHE_H

#include "cli/verb.h"

/* The tags of a repository (a list; NULL where nobody knows). A registry that
 * takes too long ends this process: what was offered by then is there. */
json_t *tag_cache_get(struct invocation *call, const char *repository);

#endif
