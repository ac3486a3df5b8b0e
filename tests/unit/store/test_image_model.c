/* Random changes of images and names, held against a simple model after each:
 * names, sizes, what is shared, what may be removed, and index.json. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/json.h"
#include "image/reclaim.h"
#include "store/container_state.h"
#include "store/image_state.h"
#include "unit/unit.h"

#define IMAGES 6
#define NAMES 8
#define LAYERS 5
#define STEPS 1500

static struct {
	bool there[IMAGES];
	int name_of[NAMES]; /* which image has the name, or -1 */
	bool used[IMAGES]; /* by a container */
} model;

static struct th_store *store;
static unsigned int seed = 20260301;

static int pick(int below)
{
	return (int)((unsigned int)rand_r(&seed) % (unsigned int)below);
}

static void digest_of(char kind, int number, char digest[TH_DIGEST_TEXT])
{
	snprintf(digest, TH_DIGEST_TEXT, "sha256:%c%063d", kind, number);
}

static void name_of(int number, char name[40])
{
	snprintf(name, 40, "pier%d.example/x:%d", number % 2, number);
}

/* Image n has layer l where this says so. */
static bool has_layer(int image, int layer)
{
	return ((image + 1) * 5 >> layer & 1) || layer == 0;
}

static uint64_t layer_bytes(int layer)
{
	return (uint64_t)(layer + 1) * 1000;
}

/* ---- what is done ---- */

static void add_image(int image, int name)
{
	struct th_image_row row = {.platform = "linux/amd64",
		.manifest_bytes = 10,
		.blob_bytes = 20};
	struct th_image_layer layers[LAYERS];
	struct th_error err = {0};
	char text[40];
	size_t count = 0;

	digest_of('a', image, row.digest);
	digest_of('c', image, row.config);
	for (int l = 0; l < LAYERS; l++) {
		if (!has_layer(image, l))
			continue;
		digest_of('d', l, layers[count].diff_id);
		digest_of('d', l, layers[count].tree);
		digest_of('b', l, layers[count].blob);
		layers[count].size_bytes = layer_bytes(l);
		layers[count++].tree_bytes = 2 * layer_bytes(l);
	}
	name_of(name < 0 ? 0 : name, text);
	CHECK_INT(th_image_state_add(store, &row, layers, count,
			  name < 0 ? NULL : text, NULL, &err),
		0);
	model.there[image] = true;
	if (name >= 0)
		model.name_of[name] = image;
}

static void tag_image(int image, int name)
{
	char digest[TH_DIGEST_TEXT], text[40], before[TH_DIGEST_TEXT];
	char wanted[TH_DIGEST_TEXT] = "";
	struct th_error err = {0};
	int rc;

	digest_of('a', image, digest);
	name_of(name, text);
	if (model.name_of[name] >= 0)
		digest_of('a', model.name_of[name], wanted);
	rc = th_image_state_tag(store, digest, text, before, &err);
	CHECK_INT(rc, model.there[image] ? 0 : -1);
	if (rc) {
		CHECK_INT(err.code, TH_NOT_FOUND);
		return;
	}
	CHECK_TEXT(before, wanted);
	model.name_of[name] = image;
}

static int count_names(int image)
{
	int count = 0;

	for (int n = 0; n < NAMES; n++)
		count += model.name_of[n] == image;
	return count;
}

static void untag(int name)
{
	struct th_error err = {0};
	int image = model.name_of[name], rc;
	char text[40];

	name_of(name, text);
	rc = th_image_state_untag(store, text, &err);
	if (image < 0) {
		CHECK_INT(rc, -1);
		CHECK_INT(err.code, TH_NOT_FOUND);
	} else if (count_names(image) > 1) {
		CHECK_INT(rc, 0);
		model.name_of[name] = -1;
	} else if (model.used[image]) {
		CHECK_INT(rc, -1);
		CHECK_INT(err.code, TH_IN_USE);
	} else {
		CHECK_INT(rc, 1);
		model.name_of[name] = -1;
		model.there[image] = false;
	}
}

static void remove_image(int image)
{
	char digest[TH_DIGEST_TEXT];
	struct th_error err = {0};
	int rc;

	digest_of('a', image, digest);
	rc = th_image_state_remove(store, digest, &err);
	if (model.used[image]) {
		CHECK_INT(rc, -1);
		CHECK_INT(err.code, TH_IN_USE);
		return;
	}
	CHECK_INT(rc, 0);
	model.there[image] = false;
	for (int n = 0; n < NAMES; n++) {
		if (model.name_of[n] == image)
			model.name_of[n] = -1;
	}
}

static void sweep_image(int image)
{
	char digest[TH_DIGEST_TEXT];
	struct th_error err = {0};
	bool goes =
		model.there[image] && !count_names(image) && !model.used[image];

	digest_of('a', image, digest);
	CHECK_INT(th_image_state_remove_nameless(store, digest, &err), goes);
	if (goes)
		model.there[image] = false;
}

/* A container of the image comes or goes. */
static void use_image(int image)
{
	struct th_container_row row = {.keep = true};
	struct th_error err = {0};
	int rc;

	snprintf(row.id, sizeof(row.id), "w%011d", image);
	snprintf(row.name, sizeof(row.name), "box-%d", image);
	digest_of('a', image, row.image);
	if (model.used[image]) {
		CHECK_INT(th_state_remove(store->db, row.id, "test", &err), 0);
		model.used[image] = false;
		return;
	}
	rc = th_state_add(store->db, &row, "test", &err);
	CHECK_INT(rc, model.there[image] ? 0 : -1);
	model.used[image] = rc == 0;
}

/* ---- what is held against it ---- */

static void check_sizes(const struct th_image_row *row, int image)
{
	uint64_t all = 10, shared = 0;

	for (int l = 0; l < LAYERS; l++) {
		bool others = false;

		if (!has_layer(image, l))
			continue;
		for (int other = 0; other < IMAGES; other++)
			others |= other != image && model.there[other] &&
				has_layer(other, l);
		all += 3 * layer_bytes(l);
		shared += others ? 3 * layer_bytes(l) : 0;
	}
	CHECK_INT(row->disk_bytes, all);
	CHECK_INT(row->shared_bytes, shared);
}

static void check_rows(void)
{
	struct th_image_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0, there = 0;

	CHECK_INT(th_image_state_find(store, NULL, &rows, &count, &err), 0);
	for (int i = 0; i < IMAGES; i++)
		there += model.there[i];
	CHECK_INT(count, there);
	for (size_t r = 0; r < count; r++) {
		int image = atoi(rows[r].digest + 8);

		CHECK(image < IMAGES && model.there[image]);
		CHECK_INT(rows[r].tags.count, count_names(image));
		CHECK_INT(rows[r].containers, model.used[image]);
		check_sizes(&rows[r], image);
	}
	th_image_rows_free(rows, count);
}

static void check_names(void)
{
	for (int n = 0; n < NAMES; n++) {
		struct th_image_row *rows = NULL;
		struct th_error err = {0};
		char name[40], digest[TH_DIGEST_TEXT];
		size_t count = 0;

		name_of(n, name);
		CHECK_INT(th_image_state_find(store, name, &rows, &count, &err),
			0);
		CHECK_INT(count, model.name_of[n] >= 0);
		if (count) {
			digest_of('a', model.name_of[n], digest);
			CHECK_TEXT(rows[0].digest, digest);
		}
		th_image_rows_free(rows, count);
	}
}

static void check_index(void)
{
	struct th_error err = {0};
	json_t *doc = NULL;
	size_t wanted = 0;

	for (int i = 0; i < IMAGES; i++) {
		if (model.there[i])
			wanted += count_names(i) ? (size_t)count_names(i) : 1;
	}
	CHECK_INT(th_json_read_file(store->root_fd, "images/index.json",
			  1 << 20, &doc, &err),
		1);
	CHECK_INT(json_array_size(json_object_get(doc, "manifests")), wanted);
	json_decref(doc);
}

/* Blobs and trees that somebody needs stay, the others go. */
static void check_reclaim(void)
{
	struct th_error err = {0};
	char path[128];

	for (int l = 0; l < LAYERS; l++) {
		snprintf(path, sizeof(path), "trees/d%063d", l);
		mkdirat(store->root_fd, path, 0755);
	}
	th_image_reclaim_due(store);
	for (int l = 0; l < LAYERS; l++) {
		bool needed = false, due = true;

		for (int i = 0; i < IMAGES; i++)
			needed |= model.there[i] && has_layer(i, l);
		snprintf(path, sizeof(path), "trees/d%063d", l);
		CHECK_INT(th_image_state_reclaim_due(store, &due, &err), 0);
		CHECK(!due);
		/* Without a removal since there was nothing to do. */
		if (needed)
			CHECK_INT(faccessat(store->root_fd, path, F_OK, 0), 0);
	}
}

static void random_changes_keep_to_the_model(void)
{
	struct th_error err = {0};
	char root[128], run[140];

	snprintf(root, sizeof(root), "%s/store", unit_folder);
	snprintf(run, sizeof(run), "%s/run", root);
	CHECK_INT(th_store_open(root, run, false, &store, &err), 0);
	memset(&model, 0, sizeof(model));
	for (int n = 0; n < NAMES; n++)
		model.name_of[n] = -1;
	for (int step = 0; step < STEPS; step++) {
		switch (pick(7)) {
		case 0:
			add_image(pick(IMAGES), pick(NAMES));
			break;
		case 1:
			add_image(pick(IMAGES), -1);
			break;
		case 2:
			tag_image(pick(IMAGES), pick(NAMES));
			break;
		case 3:
			untag(pick(NAMES));
			break;
		case 4:
			remove_image(pick(IMAGES));
			break;
		case 5:
			sweep_image(pick(IMAGES));
			break;
		case 6:
			use_image(pick(IMAGES));
			break;
		}
		check_rows();
		check_names();
		check_index();
		if (step % 50 == 0)
			check_reclaim();
	}
	th_store_close(store);
}

static const CU_TestInfo tests[] = {
	{"random changes keep to the model", random_changes_keep_to_the_model},
	CU_TEST_INFO_NULL};

const struct suite suite_image_model = {"image-model", tests};
