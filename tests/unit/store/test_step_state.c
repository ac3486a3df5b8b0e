#include "store/step_state.h"

#include <stdio.h>
#include <string.h>

#include "image/reclaim.h"
#include "unit/unit.h"

static struct th_store *store;

static void open_store(void)
{
	struct th_error err = {0};
	char root[128], run[140];

	snprintf(root, sizeof(root), "%s/store", unit_folder);
	snprintf(run, sizeof(run), "%s/run", root);
	CHECK_INT(th_store_open(root, run, false, &store, &err), 0);
}

/* An image of so many layers, each of 1,000 bytes; step 0: a named one. */
static void add(int number, size_t layer_count, int step)
{
	struct th_image_row row = {
		.platform = "linux/amd64", .manifest_bytes = 100};
	struct th_image_layer layers[4] = {
		{.size_bytes = 1000, .tree_bytes = 5000}};
	struct th_step_key key = {.parent = "parent", .text = "text"};
	struct th_error err = {0};

	snprintf(row.digest, sizeof(row.digest), "sha256:a%063d", number);
	snprintf(row.config, sizeof(row.config), "sha256:c%063d", number);
	for (size_t i = 0; i < layer_count; i++) {
		layers[i] = layers[0];
		snprintf(layers[i].blob, TH_DIGEST_TEXT, "sha256:b%063zu", i);
		snprintf(
			layers[i].diff_id, TH_DIGEST_TEXT, "sha256:d%063zu", i);
		snprintf(layers[i].tree, TH_TREE_TEXT, "sha256:d%063zu", i);
	}
	snprintf(key.key, sizeof(key.key), "key%d", step);
	snprintf(key.content, sizeof(key.content), "content%d", step);
	CHECK_INT(step ? th_image_state_add_step(
				 store, &row, layers, layer_count, &key, &err)
		       : th_image_state_add(store, &row, layers, layer_count,
				 "pier.example/x:1", NULL, &err),
		0);
}

static int find(int step)
{
	char key[20], image[TH_DIGEST_TEXT];
	struct th_error err = {0};

	snprintf(key, sizeof(key), "key%d", step);
	return th_step_state_find(store, key, image, &err);
}

static size_t listed(void)
{
	struct th_image_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 99;

	CHECK_INT(th_image_state_find(store, NULL, &rows, &count, &err), 0);
	th_image_rows_free(rows, count);
	return count;
}

static void steps_count_until_they_are_synced(void)
{
	struct th_error err = {0};
	bool unsynced = false;

	open_store();
	add(1, 1, 1);
	CHECK_INT(find(1), 1);
	CHECK_INT(find(2), 0);
	CHECK_INT(listed(), 0);
	CHECK_INT(th_step_state_unsynced(store, &unsynced, &err), 0);
	CHECK(unsynced);
	/* What came later than the sync began is not synced by it. */
	CHECK_INT(th_step_state_synced(store, 0, &err), 0);
	th_step_state_unsynced(store, &unsynced, &err);
	CHECK(unsynced);
	CHECK_INT(th_step_state_synced(store, INT64_MAX, &err), 0);
	th_step_state_unsynced(store, &unsynced, &err);
	CHECK(!unsynced);
	add(2, 2, 2);
	/* The host starts again. */
	snprintf(store->boot_id, sizeof(store->boot_id), "another boot");
	CHECK_INT(find(1), 1);
	CHECK_INT(find(2), 0);
	CHECK_INT(th_step_state_forget_lost(store, &err), 0);
	CHECK_INT(find(1), 1);
	CHECK_INT(th_image_state_is(store,
			  "sha256:a00000000000000000000000000000000000000000000"
			  "0000000000000000002",
			  NULL, &err),
		0);
	th_store_close(store);
}

static void what_named_images_are_made_of_stays(void)
{
	struct th_error err = {0};
	enum th_step_reason reason;
	struct th_step_key key = {.parent = "parent", .text = "text"};
	size_t count = 99;
	uint64_t bytes = 99;

	open_store();
	add(1, 1, 1);
	add(2, 2, 2);
	add(3, 3, 3);
	add(10, 2, 0);
	CHECK_INT(listed(), 1);
	/* Only the third has a layer that nobody else has. */
	CHECK_INT(
		th_step_state_count(store, INT64_MAX, &count, &bytes, &err), 0);
	CHECK_INT(count, 1);
	CHECK_INT(bytes, 6000);
	CHECK_INT(th_step_state_count(store, 0, &count, &bytes, &err), 0);
	CHECK_INT(count, 0);
	CHECK_INT(th_step_state_forget(store, INT64_MAX, &err), 0);
	CHECK_INT(find(1), 1);
	CHECK_INT(find(2), 1);
	CHECK_INT(find(3), 0);
	/* Why one that is not known is not. */
	snprintf(key.content, sizeof(key.content), "content9");
	CHECK_INT(th_step_state_reason(store, &key, &reason, &err), 0);
	CHECK_INT(reason, TH_STEP_CONTENT);
	snprintf(key.parent, sizeof(key.parent), "other");
	CHECK_INT(th_step_state_reason(store, &key, &reason, &err), 0);
	CHECK_INT(reason, TH_STEP_BOTH);
	snprintf(key.content, sizeof(key.content), "content1");
	CHECK_INT(th_step_state_reason(store, &key, &reason, &err), 0);
	CHECK_INT(reason, TH_STEP_PARENT);
	snprintf(key.text, sizeof(key.text), "new");
	CHECK_INT(th_step_state_reason(store, &key, &reason, &err), 0);
	CHECK_INT(reason, TH_STEP_NEW);
	/* With the name, the rest is only remembered. */
	CHECK_INT(th_image_state_untag(store, "pier.example/x:1", &err), 1);
	CHECK_INT(
		th_step_state_count(store, INT64_MAX, &count, &bytes, &err), 0);
	CHECK_INT(count, 2);
	th_store_close(store);
}

static void locks_of_builds(void)
{
	struct th_error err = {0};
	int lock = -1, other = -1;

	open_store();
	CHECK(!th_build_is_alive(store, "one"));
	CHECK_INT(th_build_lock(store, "one", &lock, &err), 1);
	CHECK(th_build_is_alive(store, "one"));
	CHECK_INT(th_build_lock(store, "one", &other, &err), 0);
	th_build_tidy(store);
	CHECK(th_build_is_alive(store, "one"));
	th_build_unlock(store, "one", &lock);
	CHECK_INT(lock, -1);
	CHECK(!th_build_is_alive(store, "one"));
	CHECK_INT(th_build_lock(store, "one", &lock, &err), 1);
	th_build_unlock(store, "one", &lock);
	th_store_close(store);
}

static const CU_TestInfo tests[] = {{"steps count until they are synced",
					    steps_count_until_they_are_synced},
	{"what named images are made of stays",
		what_named_images_are_made_of_stays},
	{"locks of builds", locks_of_builds}, CU_TEST_INFO_NULL};

const struct suite suite_step_state = {"step_state", tests};
