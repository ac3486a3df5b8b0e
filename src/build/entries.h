/* What a step puts into an image: gathered from anywhere, sorted, and written
 * as a layer with all folders on the way. For the build module only. */
#ifndef TH_BUILD_ENTRIES_H
#define TH_BUILD_ENTRIES_H

#include "base/cancel.h"
#include "base/hash.h"
#include "layer/tar_write.h"
#include "layer/view.h"

struct th_put_entry {
	char *path; /* inside, without a slash before it; owned */
	char *link; /* where a symbolic link leads; owned */
	mode_t mode; /* with its type */
	uid_t uid;
	gid_t gid;
	struct timespec mtime;
	bool attributes; /* the source's extended ones come along */
	bool implied; /* a folder on the way to others */
	bool has_links; /* a file that may be there under other names */
	dev_t device;
	ino_t number;
	/* Where its data is: below a folder (borrowed), or in a view
	 * (borrowed); of neither, where it has none. */
	int folder; /* or -1 */
	struct th_view *view;
	char *source; /* the path there; owned */
};

struct th_put_entries {
	struct th_put_entry *list; /* owned */
	size_t count;
	struct timespec
		newest; /* later times are set to it; seconds < 0: none */
	struct th_cancel cancel;
};

/* Appends one, cleared; NULL without memory. */
struct th_put_entry *th_put_entries_add(struct th_put_entries *entries);
void th_put_entries_release(struct th_put_entries *entries);

/* Sorts them so that folders stand before what is in them; of several with one
 * path the last one counts. Adds the folders on the way: as below has them, or
 * as new ones of root. */
int th_put_entries_finish(struct th_put_entries *entries, struct th_view *below,
	struct th_error *err);

int th_put_entries_write(const struct th_put_entries *entries,
	struct th_tar_out *out, struct th_error *err);

/* Digest of paths, attributes (not times) and contents. */
int th_put_entries_digest(const struct th_put_entries *entries,
	char digest[TH_HASH_TEXT], struct th_error *err);

#endif
