/* The store: where images, layers, containers and the state lie.
 *
 *   ROOT/state.db            the state (SQLite)
 *   ROOT/images/             an OCI image layout (blobs, index.json)
 *   ROOT/trees/DIFFID/       unpacked layers
 *   ROOT/containers/ID/      a container: bundle, root, log
 *   ROOT/tmp/                what is being made or removed
 *   ROOT/lock                held (shared) by who uses tmp/
 *   RUN/ID.lock, ID.sock     of the keeper of a running container
 */
#ifndef TH_STORE_STORE_H
#define TH_STORE_STORE_H

#include <stdbool.h>

#include "base/error.h"
#include "store/database.h"

struct th_store {
	char *root; /* absolute paths, owned */
	char *run;
	int root_fd;
	int run_fd;
	int lock_fd; /* ROOT/lock while it is held, or -1 */
	int lock_depth;
	struct th_db *db;
	char tag[8]; /* tells this store's devices from others' */
	char boot_id[40]; /* of the running kernel */
};

/* Opens the store at root (made where it is missing), with its run-time files
 * in run, and repairs what a killed program left behind. Paths are absolute.
 * small as for th_db_open. */
int th_store_open(const char *root, const char *run, bool small,
	struct th_store **store, struct th_error *err);
void th_store_close(struct th_store *store);

/* Whoever puts something below tmp/ holds this lock meanwhile, so that nobody
 * takes it for the remains of a dead program. Calls may be nested. */
int th_store_hold(struct th_store *store, struct th_error *err);
void th_store_let_go(struct th_store *store);

/* Marks the container's folder as being made or removed: where the program
 * dies before th_store_settled, the next one to open the store looks whether
 * the state knows the container, and removes the folder where it does not.
 * Both need th_store_hold. */
int th_store_unsettled(
	struct th_store *store, const char *id, struct th_error *err);
void th_store_settled(struct th_store *store, const char *id);

/* Removes containers/ID: out of the way at once, then for good. */
int th_store_remove_container(
	struct th_store *store, const char *id, struct th_error *err);

#endif
