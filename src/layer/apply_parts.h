/* What the parts of applying a layer share. */
#ifndef TH_LAYER_APPLY_PARTS_H
#define TH_LAYER_APPLY_PARTS_H

#include "layer/apply.h"
#include "layer/tar.h"

#define BLOCK_BYTES ((uint64_t)4096)

/* A folder's time is set at the end: filling it changes it. */
struct folder_time {
	char *path; /* owned */
	ino_t inode; /* what the path leads to may be another one by then */
	struct timespec time;
};

/* A hard link to something that may still come. */
struct pending_link {
	char *name, *target; /* owned */
};

/* A folder that was made for what lies in it. */
struct implied {
	char *path; /* owned; within the tree, without links */
	ino_t inode;
	bool bare; /* made for a whiteout */
};

/* Which entries are taken. */
enum part { PART_ALL, PART_WHITEOUTS, PART_REST };

struct job {
	struct th_tar *tar;
	int tree;
	enum part part;
	/* What is below, and on top of it the tree itself; NULL where the tree
	 * is made on its own. */
	struct th_view *view;
	size_t below_count; /* the tree's own number in the view */
	struct th_layer_notes *notes;
	/* The folder that the last entry lay in stays open. */
	char *parent_path;
	int parent;
	bool inherits; /* it hands its group down (set-gid) */
	struct folder_time *times;
	size_t time_count;
	struct pending_link *links;
	size_t link_count;
	struct implied *implied;
	size_t implied_count;
	ino_t *named; /* implied folders that got an entry after all */
	size_t named_count;
	uint64_t disk_bytes;
};

int apply_refuse(const char *name, const char *why, struct th_error *err);
/* Says what errno means for the entry. */
int apply_fail(const char *name, struct th_error *err);

/* The name without what leads nowhere ("./", "//", "/"): "" is the root. */
int apply_clean_name(
	const char *name, char clean[TH_LAYER_PATH_MAX], struct th_error *err);

/* Grows a list by doubling: true where it has room for one more. */
bool apply_grow(void **list, size_t count, size_t item_bytes);

int apply_remember_time(struct job *job, const char *path, ino_t inode,
	struct timespec time, struct th_error *err);

/* Opens the folder as job->parent, made where nothing is there. Links are
 * followed, also into lower layers. whiteout: what is to be hidden lies in it,
 * so that one that is not there below is not made: 0 then; 1, -1. */
int apply_open_parent(
	struct job *job, const char *path, bool whiteout, struct th_error *err);
/* The folder has changed its nature: what was opened through it is stale. */
void apply_forget_parent(struct job *job);

/* Marks it as hiding what lower layers have in it. */
int apply_set_opaque(
	int parent, const char *name, const char *full, struct th_error *err);

/* Makes room for an entry in the parent. 1 where a folder is there that the new
 * one may take over, 2 where a whiteout was, 0 where nothing is left, -1. */
int apply_make_room(struct job *job, const char *name, bool folder,
	const char *full, struct th_error *err);

/* last: nothing comes any more, so that the target must be there. */
int apply_hard_link(struct job *job, const char *name, const char *target,
	const char *full, bool last, struct th_error *err);
int apply_pending_links(struct job *job, struct th_error *err);

#endif
