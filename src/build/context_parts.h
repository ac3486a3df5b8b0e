/* What the ways of gathering files have in common. For the build module only.
 */
#ifndef TH_BUILD_CONTEXT_PARTS_H
#define TH_BUILD_CONTEXT_PARTS_H

#include "build/context.h"

/* The path inside that a source of that name gets: with the links that the
 * image has on the way followed. into: inside is the folder that it comes to.
 */
int context_target(struct th_gathering *gathering, const char *inside,
	bool into, const char *name, char target[TH_LAYER_PATH_MAX],
	struct th_error *err);
/* A file in the place of a folder, or the other way round, is a slip of the
 * keys rather than a wish. 1 where the folder is there, 0, -1. */
int context_check(struct th_gathering *gathering, const char *target,
	bool folder, struct th_error *err);
/* Whether the path, seen from the source, is left out. */
bool context_leaves_out(const struct th_recipe_step *step, const char *path);
/* A new entry with owner, mode and time; kept: those of the source. NULL
 * without memory. */
struct th_put_entry *context_entry(struct th_gathering *gathering,
	const char *path, const struct stat *st, bool kept);
/* Where a link of the folder leads; -1 with errno. */
int context_read_link(struct th_put_entry *entry, int fd, const char *name);

#endif
