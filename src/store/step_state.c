#include "store/step_state.h"

#include <stdio.h>

#include "base/clock.h"

/* Images that a step has made and that are nothing else, nor a part of another
 * one: what a named image is made of costs nothing to remember. */
#define ONLY_STEPS                                                             \
	"NOT EXISTS(SELECT 1 FROM tags WHERE digest=steps.image)"              \
	" AND NOT EXISTS(SELECT 1 FROM containers WHERE"                       \
	"  containers.image=steps.image)"                                      \
	" AND EXISTS(SELECT 1 FROM image_layers l WHERE l.image=steps.image"   \
	"  AND NOT EXISTS(SELECT 1 FROM image_layers o JOIN tags ON"           \
	"   tags.digest=o.image WHERE o.diff_id=l.diff_id))"

int th_step_state_find(struct th_store *store, const char *key,
	char image[TH_DIGEST_TEXT], struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(store->db, &query, err,
		    "SELECT image FROM steps WHERE key=? AND boot IN ('', ?)",
		    "tt", key, store->boot_id))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		snprintf(image, TH_DIGEST_TEXT, "%s", th_query_text(query, 0));
	th_query_end(query);
	return rc;
}

int th_step_state_reason(struct th_store *store, const struct th_step_key *step,
	enum th_step_reason *reason, struct th_error *err)
{
	int64_t same_parent = 0, same_content = 0, any = 0;

	if (th_db_number(store->db, 0, &any, err,
		    "SELECT count(*) FROM steps WHERE text=?", "t",
		    step->text) ||
		th_db_number(store->db, 0, &same_parent, err,
			"SELECT count(*) FROM steps WHERE text=? AND parent=?",
			"tt", step->text, step->parent) ||
		th_db_number(store->db, 0, &same_content, err,
			"SELECT count(*) FROM steps WHERE text=? AND content=?",
			"tt", step->text, step->content))
		return -1;
	*reason = !any	       ? TH_STEP_NEW
		: same_parent  ? TH_STEP_CONTENT
		: same_content ? TH_STEP_PARENT
			       : TH_STEP_BOTH;
	return 0;
}

int th_step_state_used(struct th_store *store, const struct th_strings *keys,
	struct th_error *err)
{
	int64_t now = th_clock_now_us();
	int rc = 0;

	if (th_db_begin(store->db, err))
		return -1;
	for (size_t i = 0; rc == 0 && i < keys->count; i++)
		rc = th_db_run(store->db, err,
			"UPDATE steps SET used_us=? WHERE key=?", "it", now,
			keys->items[i]);
	return th_db_end(store->db, rc, err);
}

int th_step_state_unsynced(
	struct th_store *store, bool *unsynced, struct th_error *err)
{
	int64_t count = 0;

	if (th_db_number(store->db, 0, &count, err,
		    "SELECT EXISTS(SELECT 1 FROM steps WHERE boot<>'')", ""))
		return -1;
	*unsynced = count > 0;
	return 0;
}

int th_step_state_synced(
	struct th_store *store, int64_t time_us, struct th_error *err)
{
	return th_db_run(store->db, err,
		"UPDATE steps SET boot='' WHERE boot=? AND used_us<=?", "ti",
		store->boot_id, time_us);
}

/* With their images, where nothing else wants those. */
static int forget(struct th_store *store, const char *which, const char *types,
	int64_t number, const char *text, struct th_error *err)
{
	char sql[600];
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	snprintf(sql, sizeof(sql),
		"DELETE FROM images WHERE digest IN (SELECT image FROM steps"
		" WHERE %s AND " ONLY_STEPS ")",
		which);
	rc = types[0] == 'i' ? th_db_run(store->db, err, sql, types, number)
			     : th_db_run(store->db, err, sql, types, text);
	if (rc == 0)
		rc = th_db_run(store->db, err,
			"UPDATE meta SET value='1' WHERE key='reclaim'", "");
	return th_db_end(store->db, rc, err);
}

int th_step_state_forget_lost(struct th_store *store, struct th_error *err)
{
	int64_t lost = 0;

	if (th_db_number(store->db, 0, &lost, err,
		    "SELECT EXISTS(SELECT 1 FROM steps WHERE boot<>''"
		    " AND boot<>?)",
		    "t", store->boot_id))
		return -1;
	if (!lost)
		return 0;
	if (forget(store, "boot<>'' AND boot<>?", "t", 0, store->boot_id, err))
		return -1;
	return th_db_run(store->db, err,
		"DELETE FROM steps WHERE boot<>'' AND boot<>?", "t",
		store->boot_id);
}

int th_step_state_count(struct th_store *store, int64_t before_us,
	size_t *count, uint64_t *bytes, struct th_error *err)
{
	int64_t number = 0, blobs = 0, trees = 0;

#define UNUSED "SELECT image FROM steps WHERE used_us<=? AND " ONLY_STEPS
	/* What images with names have as well stays. */
#define OWN(unit)                                                              \
	" AND " unit " NOT IN (SELECT " unit " FROM image_layers WHERE image"  \
	" NOT IN (" UNUSED "))"
	if (th_db_number(store->db, 0, &number, err,
		    "SELECT count(*) FROM (SELECT DISTINCT image FROM (" UNUSED
		    "))",
		    "i", before_us) ||
		th_db_number(store->db, 0, &blobs, err,
			"SELECT coalesce(sum(bytes), 0) FROM (SELECT DISTINCT"
			" blob, bytes FROM image_layers WHERE image IN"
			" (" UNUSED ")" OWN("blob") ")",
			"ii", before_us, before_us) ||
		th_db_number(store->db, 0, &trees, err,
			"SELECT coalesce(sum(tree_bytes), 0) FROM (SELECT"
			" DISTINCT tree, tree_bytes FROM image_layers WHERE"
			" image IN (" UNUSED ")" OWN("tree") ")",
			"ii", before_us, before_us))
		return -1;
	*count = (size_t)number;
	*bytes = (uint64_t)(blobs + trees);
	return 0;
}

int th_step_state_forget(
	struct th_store *store, int64_t before_us, struct th_error *err)
{
	return forget(store, "used_us<=?", "i", before_us, NULL, err);
}
