/* Folders that steps put files from: the recipe's own, and those that were
 * given by name. Nothing leaves them, neither by ".." nor by a link. For the
 * build module only. */
#ifndef TH_BUILD_CONTEXT_H
#define TH_BUILD_CONTEXT_H

#include "build/entries.h"
#include "build/recipe.h"

struct th_build_folder {
	char *name; /* "" for the recipe's own */
	char *path; /* absolute */
	int fd;
};

struct th_build_folders {
	struct th_build_folder *list; /* owned; the recipe's own first */
	size_t count;
};

/* Opens a folder; TH_NOT_FOUND where there is none. */
int th_build_folders_add(struct th_build_folders *folders, const char *name,
	const char *path, struct th_error *err);
void th_build_folders_release(struct th_build_folders *folders);

/* The folder that a source lies in ("./site", "tides:2026"), and its path
 * there; NULL with an error. */
const struct th_build_folder *th_build_folder_of(
	const struct th_build_folders *folders, const char *source,
	const char **path, struct th_error *err);

/* What becomes of the files of a pair. */
struct th_gathering {
	const struct th_build_folders *folders;
	struct th_view *below; /* or NULL */
	const struct th_recipe_step *step;
	uid_t uid; /* where an owner is given */
	gid_t gid;
	bool has_owner;
	struct timespec time; /* of all that is put */
	struct th_put_entries *entries;
	uint64_t sockets; /* counted: left out */
};

/* Adds all that the pair of a put means. */
int th_gather_put(struct th_gathering *gathering,
	const struct th_recipe_pair *pair, struct th_error *err);
/* The same for an archive that was unpacked into the folder (borrowed). */
int th_gather_tree(struct th_gathering *gathering, int folder,
	const char *inside, struct th_error *err);
/* The same for a path of an image. */
int th_gather_view(struct th_gathering *gathering, struct th_view *from,
	const char *path, const struct th_recipe_pair *pair,
	struct th_error *err);

#endif
