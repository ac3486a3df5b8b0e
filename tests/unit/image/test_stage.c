#include "image/stage.h"

#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "image/reclaim.h"
#include "lib/tar.h"
#include "store/blob.h"
#include "unit/unit.h"

static struct th_store *open_store(void)
{
	struct th_store *store = NULL;
	struct th_error err = {0};
	char root[128], run[140];

	snprintf(root, sizeof(root), "%s/store", unit_folder);
	snprintf(run, sizeof(run), "%s/run", root);
	CHECK_INT(th_store_open(root, run, false, &store, &err), 0);
	return store;
}

static const char text[] = "high water at the north mole: 05:12, 4.1 m";

static int bring(struct th_store *store, const char *digest, size_t size,
	const char *data, size_t len, uint64_t *old, struct th_error *err)
{
	struct th_incoming incoming;
	struct tar_source from;
	int rc;

	CHECK_INT(th_incoming_begin(store, &incoming, digest, size, err), 0);
	*old = incoming.old_bytes;
	tar_source_init(&from, data + (*old < len ? *old : len),
		*old < len ? len - *old : 0, 7);
	incoming.from = &from.source;
	rc = th_incoming_finish(&incoming, err);
	th_incoming_end(&incoming);
	return rc;
}

static bool is_there(struct th_store *store, const char *path)
{
	return faccessat(store->root_fd, path, F_OK, 0) == 0;
}

static void a_blob_is_believed_when_it_is_right(void)
{
	struct th_store *store = open_store();
	struct th_error err = {0};
	char digest[TH_DIGEST_TEXT], path[200];
	uint64_t old = 0;
	int fd;

	th_hash_once(text, sizeof(text), digest);
	snprintf(path, sizeof(path), "partial/%s", digest + 7);
	CHECK_INT(bring(store, digest, sizeof(text), text, sizeof(text), &old,
			  &err),
		0);
	CHECK(th_stage_has_blob(store, digest, sizeof(text)));
	CHECK(!th_stage_has_blob(store, digest, sizeof(text) + 1));
	CHECK(!is_there(store, path));
	fd = th_stage_open_blob(store, digest, &err);
	CHECK(fd >= 0);
	th_close(&fd);
	/* It gets its place, and a second time is as good. */
	CHECK_INT(th_stage_place_blob(store, digest, &err), 0);
	CHECK_INT(th_stage_place_blob(store, digest, &err), 0);
	CHECK(th_blob_there(store, digest, sizeof(text)));
	th_store_close(store);
}

static void one_that_came_in_part_goes_on(void)
{
	struct th_store *store = open_store();
	struct th_incoming incoming;
	struct tar_source from;
	struct th_error err = {0};
	char digest[TH_DIGEST_TEXT];
	const void *data;
	uint64_t old = 0;

	th_hash_once(text, sizeof(text), digest);
	CHECK_INT(
		th_incoming_begin(store, &incoming, digest, sizeof(text), &err),
		0);
	tar_source_init(&from, text, 20, 10);
	incoming.from = &from.source;
	while (incoming.source.next(&incoming.source, &data, &err) > 0)
		;
	th_incoming_end(&incoming);
	CHECK(!th_stage_has_blob(store, digest, sizeof(text)));
	CHECK_INT(bring(store, digest, sizeof(text), text, sizeof(text), &old,
			  &err),
		0);
	CHECK_INT(old, 20);
	th_store_close(store);
}

static void what_is_wrong_is_thrown_away(void)
{
	struct th_store *store = open_store();
	char digest[TH_DIGEST_TEXT], path[200], other[sizeof(text)];
	static const size_t lengths[] = {sizeof(text), sizeof(text) - 1, 0};
	uint64_t old = 0;

	th_hash_once(text, sizeof(text), digest);
	snprintf(path, sizeof(path), "partial/%s", digest + 7);
	memcpy(other, text, sizeof(text));
	other[3] ^= 1;
	for (size_t i = 0; i < COUNT_OF(lengths); i++) {
		struct th_error err = {0};

		CHECK_INT(bring(store, digest, sizeof(text), other, lengths[i],
				  &old, &err),
			-1);
		CHECK_INT(err.code, TH_NETWORK);
		/* The rest of one that is too short may come. */
		CHECK(is_there(store, path) == (lengths[i] < sizeof(text)));
		th_stage_drop_part(store, digest);
		CHECK(!is_there(store, path));
	}
	{
		struct th_error err = {0};

		/* Longer than it was said to be. */
		CHECK_INT(bring(store, digest, 10, text, sizeof(text), &old,
				  &err),
			-1);
		CHECK(strstr(err.msg, "larger") != NULL);
		CHECK(!is_there(store, path));
	}
	th_store_close(store);
}

static void another_boot_believes_nothing(void)
{
	struct th_store *store = open_store();
	struct th_error err = {0};
	char digest[TH_DIGEST_TEXT], path[200], tree[256];
	uint64_t old = 0;

	th_hash_once(text, sizeof(text), digest);
	snprintf(path, sizeof(path), "partial/%s", digest + 7);
	CHECK_INT(bring(store, digest, sizeof(text), text, sizeof(text), &old,
			  &err),
		0);
	CHECK_INT(mkdirat(store->root_fd, "tmp/x.tree", 0755), 0);
	CHECK_INT(th_stage_keep_tree(store, digest, "tmp/x.tree", &err), 0);
	CHECK(th_stage_has_tree(store, digest));
	snprintf(tree, sizeof(tree), "%s.tree-%.8s", path, store->boot_id);
	CHECK(is_there(store, tree));
	th_stage_begin(store);
	CHECK(th_stage_has_blob(store, digest, sizeof(text)));
	/* The host was restarted. */
	memset(store->boot_id, '0', 8);
	th_stage_begin(store);
	CHECK(!th_stage_has_blob(store, digest, sizeof(text)));
	CHECK(!th_stage_has_tree(store, digest));
	CHECK(!is_there(store, tree));
	CHECK(is_there(store, path));
	/* But nothing needs to be fetched again. */
	CHECK_INT(bring(store, digest, sizeof(text), text, sizeof(text), &old,
			  &err),
		0);
	CHECK_INT(old, sizeof(text));
	th_store_close(store);
}

static void waits_told(void *owner)
{
	*(int *)owner += 1;
}

static void a_layer_is_brought_by_one(void)
{
	struct th_store *store = open_store();
	struct th_error err = {0};
	atomic_bool stop = true;
	struct th_cancel never = {0}, now = {.flags = {&stop}};
	char digest[TH_DIGEST_TEXT], path[200];
	int first = -1, second = -1, told = 0;

	th_hash_once("x", 1, digest);
	snprintf(path, sizeof(path), "partial/%s.lock", digest + 7);
	CHECK_INT(th_stage_lock(store, digest, never, NULL, NULL, &first, &err),
		0);
	CHECK_INT(th_stage_lock(
			  store, digest, now, waits_told, &told, &second, &err),
		-1);
	th_stage_unlock(store, digest, &first);
	CHECK(!is_there(store, path));
	th_error_clear(&err);
	CHECK_INT(th_stage_lock(
			  store, digest, now, waits_told, &told, &second, &err),
		0);
	CHECK_INT(told, 0);
	th_stage_unlock(store, digest, &second);
	th_store_close(store);
}

static void files_of_no_image_are_reclaimed_alone(void)
{
	struct th_store *store = open_store();
	const struct th_cancel none = {0};
	struct th_litter litter;
	struct th_error err = {0};

	th_file_replace(store->root_fd, "images/blobs/sha256/stray", "x", 1,
		0644, false, &err);
	CHECK_INT(mkdirat(store->root_fd, "trees/stray", 0755), 0);
	/* Not due: nobody removed anything. */
	th_image_repair(store);
	CHECK(is_there(store, "trees/stray"));
	CHECK_INT(th_litter_find(store, INT64_MAX, &litter, &err), 0);
	CHECK_INT(litter.blob_count, 1);
	CHECK_INT(litter.tree_count, 1);
	/* Whoever uses images keeps them as they are. */
	CHECK_INT(th_store_use_images(store, &err), 0);
	CHECK_INT(th_litter_remove(store, &litter, INT64_MAX, none, &err), -1);
	CHECK_INT(err.code, TH_IN_USE);
	CHECK(is_there(store, "trees/stray"));
	th_store_unuse_images(store);
	th_error_clear(&err);
	CHECK_INT(th_litter_remove(store, &litter, INT64_MAX, none, &err), 0);
	CHECK(!is_there(store, "trees/stray"));
	CHECK(!is_there(store, "images/blobs/sha256/stray"));
	th_litter_release(&litter);
	th_store_close(store);
}

/* ---- what gets its place while others look for it ---- */

#define PLACED 300

struct placing {
	struct th_store *store;
	char digest[TH_DIGEST_TEXT];
	atomic_bool placed;
	int failures;
};

static void *place_all(void *owner)
{
	struct placing *placing = owner;
	struct th_error err = {0};

	placing->failures +=
		th_stage_place_blob(placing->store, placing->digest, &err) != 0;
	placing->failures +=
		th_stage_place_tree(placing->store, placing->digest, &err) != 0;
	atomic_store(&placing->placed, true);
	return NULL;
}

static void stage_all(struct placing *placing, int number)
{
	struct th_store *store = placing->store;
	struct th_layer_notes notes = {.opaque = true};
	struct th_error err = {0};

	th_hash_once(&number, sizeof(number), placing->digest);
	atomic_init(&placing->placed, false);
	CHECK_INT(th_file_replace(store->root_fd, "tmp/blob", &number,
			  sizeof(number), 0644, false, &err),
		0);
	CHECK_INT(th_stage_keep_blob(store, placing->digest, "tmp/blob", &err),
		0);
	CHECK_INT(mkdirat(store->root_fd, "tmp/tree", 0755), 0);
	CHECK_INT(th_stage_keep_notes(store, placing->digest, &notes, &err), 0);
	CHECK_INT(th_stage_keep_tree(store, placing->digest, "tmp/tree", &err),
		0);
}

/* How many of the ways to look at it find nothing. */
static int look_for_all(struct placing *placing)
{
	struct th_store *store = placing->store;
	struct th_layer_notes notes = {.opaque = false};
	struct th_error err = {0};
	int missing = 0;
	int fd;

	missing += !th_stage_has_blob(store, placing->digest, sizeof(int));
	missing += !th_stage_has_tree(store, placing->digest);
	fd = th_stage_open_blob(store, placing->digest, &err);
	missing += fd < 0;
	th_close(&fd);
	fd = th_stage_open_tree(store, placing->digest, &err);
	missing += fd < 0;
	th_close(&fd);
	missing += th_stage_read_notes(store, placing->digest, &notes, &err) ||
		!notes.opaque;
	th_layer_notes_release(&notes);
	return missing;
}

static void what_gets_its_place_is_found_meanwhile(void)
{
	struct placing placing = {.store = open_store()};
	int missing = 0;

	for (int i = 0; i < PLACED; i++) {
		pthread_t thread;

		stage_all(&placing, i);
		CHECK_INT(
			pthread_create(&thread, NULL, place_all, &placing), 0);
		while (!atomic_load(&placing.placed))
			missing += look_for_all(&placing);
		pthread_join(thread, NULL);
		missing += look_for_all(&placing);
	}
	CHECK_INT(missing, 0);
	CHECK_INT(placing.failures, 0);
	th_store_close(placing.store);
}

/* Whoever places it may have been killed between the two. */
static void notes_may_be_ahead_of_their_tree(void)
{
	struct placing placing = {.store = open_store()};
	char from[200], to[200];

	stage_all(&placing, 1);
	snprintf(from, sizeof(from), "partial/%s.notes-%.8s",
		placing.digest + 7, placing.store->boot_id);
	snprintf(to, sizeof(to), "trees/%s.notes", placing.digest + 7);
	CHECK_INT(renameat(placing.store->root_fd, from, placing.store->root_fd,
			  to),
		0);
	CHECK_INT(look_for_all(&placing), 0);
	th_store_close(placing.store);
}

static const CU_TestInfo tests[] = {
	{"a blob is believed when it is right",
		a_blob_is_believed_when_it_is_right},
	{"one that came in part goes on", one_that_came_in_part_goes_on},
	{"what is wrong is thrown away", what_is_wrong_is_thrown_away},
	{"another boot believes nothing", another_boot_believes_nothing},
	{"a layer is brought by one", a_layer_is_brought_by_one},
	{"files of no image are reclaimed alone",
		files_of_no_image_are_reclaimed_alone},
	{"what gets its place is found meanwhile",
		what_gets_its_place_is_found_meanwhile},
	{"notes may be ahead of their tree", notes_may_be_ahead_of_their_tree},
	CU_TEST_INFO_NULL};

const struct suite suite_stage = {"stage", tests};
