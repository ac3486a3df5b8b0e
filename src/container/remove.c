/* Removing containers. */
#include <errno.h>
#include <stdio.h>
#include <string.h>

#include "container/replace.h"
#include "container/lock.h"
#include "store/machine.h"

/* How long a keeper may take to clean up after its container's end. */
#define KEEPER_LEAVES_MS 15000
#define LOOK_MS 100

static int stop_first(const struct th_context *context,
	const struct th_container_row *row, bool force, struct th_error *err)
{
	struct th_ending ending;

	struct th_container_row now;

	if (th_act_check(row, TH_ACT_REMOVE, err) == 0)
		return 0;
	th_error_clear(err);
	if (!force) {
		th_fail(err, TH_IN_USE, "container \"%s\" is %s", row->name,
			th_state_word(row->state));
		return th_hint(err,
			"stop it first (tidyhull stop %s), or use --force",
			row->name);
	}
	if (th_container_stop(context, row, 0, -1, &ending, err) == 0)
		return 0;
	/* It may have ended by itself in between. */
	if (th_state_get(context->store->db, row->id, &now, err) == 1 &&
		th_act_check(&now, TH_ACT_REMOVE, err))
		return -1;
	th_error_clear(err);
	return 0;
}

void th_container_remove_groups(
	const struct th_context *context, const struct th_container_row *row)
{
	char path[TH_CGROUP_PATH], noted[TH_CGROUP_PATH];

	th_group_path(context->store, row->id, path);
	th_cgroup_remove(path, TH_CGROUP_LEVELS);
	th_container_group(context, row, noted);
	if (strcmp(noted, path) != 0)
		th_cgroup_remove(noted, TH_CGROUP_LEVELS);
}

/* Row and files; a mark says that both are to go. */
static int forget(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_error own = {0};
	int rc;

	if (th_store_unsettled(store, row->id, err))
		return -1;
	/* On the disk before the files go: a power cut must not bring back one
	 * that has none. */
	rc = th_db_begin_durable(store->db, row->keep, &own);
	if (rc == 0)
		rc = th_db_end(store->db,
			th_state_remove(
				store->db, row->id, context->actor, &own),
			&own);
	if (rc == 0)
		return th_store_remove_container(store, row->id, err);
	/* On a full disk the files come first, as they make the room. */
	if (own.sys != ENOSPC || th_db_is_detached(store->db) ||
		th_store_remove_container(store, row->id, err)) {
		*err = own;
		return -1;
	}
	return th_state_remove(store->db, row->id, context->actor, err);
}

int th_container_remove(const struct th_context *context,
	const struct th_container_row *row, bool force, struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_container_row now = *row;
	struct th_error ignored = {0}; /* found later */
	int lock = -1, rc = 0;

	if (th_replacement_check(context, row, err))
		return -1;

	/* With the lock, no keeper is there and none can come. Until then
	 * another command may have started it once more. */
	for (int ms = 0; rc == 0 && ms < KEEPER_LEAVES_MS; ms += LOOK_MS) {
		if (stop_first(context, &now, force, err))
			return -1;
		rc = th_lock_wait(store->run_fd, row->id, LOOK_MS, &lock, err);
		if (rc == 0 && th_state_get(store->db, row->id, &now, err) <= 0)
			return err->code ? -1 : 0; /* another has removed it */
	}
	if (rc == 0)
		return th_fail(err, TH_IN_USE,
			"container \"%s\" is being started or removed by "
			"another command",
			row->name);
	if (rc < 0)
		return -1;
	th_container_remove_groups(context, row);
	if (th_state_began(store->db, row->id, &ignored) == 1)
		th_container_clean_start(context, row);
	rc = th_store_hold(store, err);
	if (rc == 0) {
		rc = forget(context, row, err);
		/* The mark goes last: it is what the lock's file is found by
		 * where this process dies. Nobody can start it any more. */
		if (rc == 0) {
			if (th_lock_drop(store->run_fd, row->id, &lock))
				th_store_settled(store, row->id);
		}
		th_store_let_go(store);
	}
	th_lock_drop(store->run_fd, row->id, &lock);
	return rc;
}
