/* What unpacked layers show together: read the way an overlay file system
 * stacks them (the kernel's Documentation/filesystems/overlayfs.rst), but
 * without one, so that no right to mount is needed. */
#ifndef TH_LAYER_VIEW_H
#define TH_LAYER_VIEW_H

#include <stdbool.h>
#include <stddef.h>
#include <sys/stat.h>

#include "base/error.h"
#include "layer/notes.h"

/* The longest path inside, its end included; the kernel's limit. */
#define TH_LAYER_PATH_MAX 4096

struct th_view; /* opaque */

struct th_sight {
	/* Of what is found (O_PATH); of a folder, that of the layer which says
	 * what the folder is like. To be closed. */
	int fd;
	struct stat st;
	size_t layer; /* that of fd; counted from the lowest */
	size_t first; /* the topmost layer that has it */
	bool said; /* of a folder: an archive has an entry for it */
};

/* NULL without memory. */
struct th_view *th_view_new(void);
/* Puts a tree on top. The view has a descriptor of its own; notes (NULL: none)
 * are borrowed for the view's life. */
int th_view_add(struct th_view *view, int tree,
	const struct th_layer_notes *notes, struct th_error *err);
void th_view_free(struct th_view *view);

size_t th_view_count(const struct th_view *view);
/* Takes the topmost tree off again. */
void th_view_drop(struct th_view *view);

/* What has the path. No part of it may be a link; the last may be one, and is
 * not followed. 1 with *found, 0 where there is nothing, -1. */
int th_view_look(struct th_view *view, const char *path, struct th_sight *found,
	struct th_error *err);

/* What the folder at path holds by the layers from that number on: names,
 * deleted ones among them, in order, each once. Nothing where there is no
 * folder. 1 where no layer below has a part in the folder, 0, -1. */
struct th_strings;
int th_view_names(struct th_view *view, const char *path, size_t from,
	struct th_strings *names, struct th_error *err);

/* The same with all links followed, as a process with the view as its root
 * would. */
int th_view_find(struct th_view *view, const char *path, struct th_sight *found,
	struct th_error *err);

/* Puts a name behind a path; false where that is longer than the kernel's
 * limit, and the path is as it was. */
bool th_view_join(char path[TH_LAYER_PATH_MAX], const char *name);

/* Where the path leads: one without links, that can be looked at. 1, 0 where it
 * leads to nothing, -1. */
int th_view_resolve(struct th_view *view, const char *path,
	char resolved[TH_LAYER_PATH_MAX], struct th_error *err);

/* The descriptor of a layer's tree, counted from the lowest. */
int th_view_tree(const struct th_view *view, size_t layer);

/* Whether a folder hides what layers below have in it, and a node stands for a
 * deletion. */
bool th_is_opaque(int folder);
bool th_is_whiteout(const struct stat *st);

#endif
