/* What differs between two roots: a container and its image, or two images; and
 * what in an image's layers nobody can see. */
#ifndef TH_BUILD_CHANGES_H
#define TH_BUILD_CHANGES_H

#include "container/container.h"
#include "layer/view.h"

enum th_change_kind { TH_FILE_NEW, TH_FILE_CHANGED, TH_FILE_GONE };

/* In what respect one has changed: a set. */
enum th_change_aspect {
	TH_ASPECT_KIND = 1, /* a folder has become a file, ... */
	TH_ASPECT_CONTENT = 2,
	TH_ASPECT_OWNER = 4,
	TH_ASPECT_MODE = 8,
	TH_ASPECT_TIME = 16 /* and nothing else */
};

struct th_file_change {
	enum th_change_kind kind;
	int aspects; /* of a changed one */
	char *path; /* owned; without a slash before it */
	mode_t mode; /* as it is, or was */
	uint64_t bytes; /* of files; of a folder that is gone, all that was in
			 * it */
	uint64_t before_bytes; /* of a changed one */
	int64_t time_us; /* when it was modified */
};

struct th_file_changes {
	struct th_file_change *list; /* owned, in the order of the paths */
	size_t count;
};

/* Of what is in a folder that is gone, only the folder is told. common: so many
 * of the lowest layers are the same in both. */
int th_changes_between(const struct th_context *context, struct th_view *before,
	struct th_view *after, size_t common, struct th_file_changes *changes,
	struct th_error *err);
/* Of a container, running or not, from its image. */
int th_changes_of_container(const struct th_context *context,
	const struct th_container_row *row, struct th_file_changes *changes,
	struct th_error *err);
/* From one image to another, by their digests. */
int th_changes_of_images(const struct th_context *context, const char *before,
	const char *after, struct th_file_changes *changes,
	struct th_error *err);
void th_file_changes_release(struct th_file_changes *changes);

/* A file of a layer that later layers hide. */
struct th_hidden_file {
	char *path; /* owned */
	size_t layer; /* whose it is, the lowest being 0 */
	uint64_t bytes;
};

struct th_hidden {
	struct th_hidden_file *list; /* owned, the largest first */
	size_t count;
	uint64_t bytes; /* of all */
	size_t layers; /* that the image has */
};

/* What an image carries, and no container can see. */
int th_hidden_of_image(const struct th_context *context, const char *digest,
	struct th_hidden *hidden, struct th_error *err);
void th_hidden_release(struct th_hidden *hidden);

#endif
