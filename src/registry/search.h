/* Looking for images of which a name is half remembered. */
#ifndef TH_REGISTRY_SEARCH_H
#define TH_REGISTRY_SEARCH_H

#include "registry/client.h"

struct th_found {
	char host[256];
	char path[256];
	struct th_strings tags; /* owned */
	int rank; /* how well it fits; 0 is best */
};

/* Asks all configured registries at the same time (or only the host that term
 * begins with) for repositories whose names hold the term, or nearly do, and
 * their tags. The best come first. notes receives which registries could not be
 * asked, and why. The list is freed with th_found_free. */
int th_search(const struct th_registry_options *options, const char *term,
	struct th_found **list, size_t *count, struct th_strings *notes,
	struct th_error *err);
void th_found_free(struct th_found *list, size_t count);

/* How well a repository's name fits a term: 0 is best, -1 not at all. */
int th_search_rank(const char *path, const char *term);

#endif
