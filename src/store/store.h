/* The store: where images, layers, containers and the state lie.
 *
 *   ROOT/state.db            the state (SQLite)
 *   ROOT/images/             an OCI image layout (blobs, index.json)
 *   ROOT/trees/DIFFID/       unpacked layers
 *   ROOT/containers/ID/      a container: bundle, root, log
 *   ROOT/partial/            what pulls have brought that is no image yet
 *   ROOT/filters/            compiled system-call filters
 *   ROOT/tmp/                what is being made or removed
 *   ROOT/lock                held (shared) by who uses tmp/
 *   ROOT/images.lock         held (shared) by who counts on blobs and trees
 *                            that no image has yet; alone by who removes them
 *   RUN/ID.lock, ID.sock     of the keeper of a running container
 */
#ifndef TH_STORE_STORE_H
#define TH_STORE_STORE_H

#include <fcntl.h>
#include <stdbool.h>

#include "base/error.h"
#include "store/database.h"
#include "store/lender.h"

/* As long as anybody may need for what is done with a lock of networks held. */
#define TH_STORE_PATIENCE_MS 20000

#define TH_STORE_PLACE 300

struct th_store {
	char *root; /* absolute paths, owned */
	char *run;
	int root_fd;
	int run_fd;
	int lock_fd; /* ROOT/lock while it is held, or -1 */
	int lock_depth;
	int images_fd; /* ROOT/images.lock while it is held, or -1 */
	int images_depth;
	struct th_db *db;
	char tag[8]; /* tells this store's devices from others' */
	char place[TH_STORE_PLACE]; /* where that lay when it was given */
	char boot_id[40]; /* of the running kernel */
	bool borrows_tag; /* a copy that cannot be written: what it notes of
			   * the host is another store's */
	bool state_lost; /* the database was gone, and was made anew */
	/* Its owner is an unprivileged user, whose networks lie in a namespace
	 * of their own (network/pilot.h). To be set by who opens it. */
	bool unprivileged;
	struct th_lender *lender; /* owned; NULL: layers are unpacked here */
	/* How long this process waits for locks on the host's side of networks,
	 * in milliseconds: whoever holds one may have been stopped. */
	int patience_ms;
};

/* What openat(2) is told about links in the store: only a user's has some, to
 * what is borrowed. Root follows none that somebody has put there. */
static inline int th_store_links(const struct th_store *store)
{
	return store->unprivileged ? 0 : O_NOFOLLOW;
}

/* The same for fstatat(2). */
static inline int th_store_stat_links(const struct th_store *store)
{
	return store->unprivileged ? 0 : AT_SYMLINK_NOFOLLOW;
}

/* Opens the store at root (made where it is missing), with its run-time files
 * in run, and repairs what a killed program left behind. Paths are absolute.
 * small as for th_db_open. */
int th_store_open(const char *root, const char *run, bool small,
	struct th_store **store, struct th_error *err);
void th_store_close(struct th_store *store);
/* Writes the mark of an OCI image layout (image-layout.md) into the folder of a
 * store. */
int th_store_write_layout(int root, struct th_error *err);

/* Whoever puts something below tmp/ holds this lock meanwhile, so that nobody
 * takes it for the remains of a dead program. Calls may be nested. */
int th_store_hold(struct th_store *store, struct th_error *err);
void th_store_let_go(struct th_store *store);

/* Whoever makes an image of blobs and trees holds this lock, shared, until the
 * state knows the image: meanwhile none of them is removed. Calls may be
 * nested. */
int th_store_use_images(struct th_store *store, struct th_error *err);
void th_store_unuse_images(struct th_store *store);
/* The same lock for one alone, to remove what no image has. 1 held; 0 where
 * somebody uses images just now; -1. Ended by th_store_unuse_images. */
int th_store_own_images(struct th_store *store, struct th_error *err);

/* Marks the container's folder as being made or removed: where the program
 * dies before th_store_settled, the next one to open the store looks whether
 * the state knows the container, and removes the folder where it does not.
 * Both need th_store_hold. */
int th_store_unsettled(
	struct th_store *store, const char *id, struct th_error *err);
void th_store_settled(struct th_store *store, const char *id);

/* The lock of a build, held for as long as containers of it may be there. */
/* Takes it; the lock is the caller's to give to th_build_unlock. Steps have
 * some as well, by their keys: no step is done by two at the same time. 1, 0
 * where another has it, -1. */
int th_build_lock(struct th_store *store, const char *build, int *lock,
	struct th_error *err);
void th_build_unlock(struct th_store *store, const char *build, int *lock);
/* Removes the locks of builds that were killed. */
void th_build_tidy(struct th_store *store);
/* False where its program has gone. */
bool th_build_is_alive(const struct th_store *store, const char *build);

/* Writes to the disk what lies in the container's folder (open as folder), with
 * the names of its files and its own. */
int th_store_sync_container(const struct th_store *store, const char *id,
	int folder, struct th_error *err);

/* Removes containers/ID: out of the way at once, then for good. */
int th_store_remove_container(
	struct th_store *store, const char *id, struct th_error *err);

/* Where a container's control group lies: "/tidyhull-TAG/ID". path has room
 * for 64 bytes. */
void th_group_path(const struct th_store *store, const char *id, char *path);
/* The same of a container for which a path was noted ("": none): what was noted
 * counts, unless it is such a path with another store's tag, from before this
 * one was copied. */
void th_group_path_of(const struct th_store *store, const char *id,
	const char *noted, char *path, size_t size);

#endif
