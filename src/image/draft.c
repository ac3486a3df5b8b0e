#include "image/draft.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/hash.h"
#include "base/json.h"
#include "image/commit.h"
#include "image/stage.h"
#include "store/blob.h"
#include "store/step_state.h"

/* ---- begin ---- */

/* Only what the specification knows: others' additions say how an earlier image
 * was made. */
static int take_config(
	struct th_draft *draft, const json_t *doc, struct th_error *err)
{
	static const char *const kept[] = {"architecture", "os", "os.version",
		"os.features", "variant", "config", "rootfs", "history"};

	draft->config = json_object();
	for (size_t i = 0; i < sizeof(kept) / sizeof(*kept); i++) {
		json_t *value = json_object_get(doc, kept[i]);

		if (value && !json_is_null(value) &&
			json_object_set_new(
				draft->config, kept[i], json_deep_copy(value)))
			return th_fail_memory(err);
	}
	return draft->config ? 0 : th_fail_memory(err);
}

/* "The array is ordered from first to last", with one entry for each layer that
 * is not called empty (config.md): an image that does not keep to this gets
 * lines that say nothing. */
static int mend_history(struct th_draft *draft, struct th_error *err)
{
	json_t *history = json_object_get(draft->config, "history");
	size_t found = 0, i;
	json_t *line;

	json_array_foreach(history, i, line) found +=
		!json_is_true(json_object_get(line, "empty_layer"));
	if (json_is_array(history) && found == draft->layer_count)
		return 0;
	history = json_array();
	for (i = 0; i < draft->layer_count; i++)
		json_array_append_new(
			history, json_pack("{s:s}", "comment", "unknown"));
	return json_object_set_new(draft->config, "history", history)
		? th_fail_memory(err)
		: 0;
}

static int take_layers(struct th_draft *draft,
	const struct th_manifest *manifest,
	const struct th_image_config *config, struct th_error *err)
{
	size_t count = manifest->layer_count;

	if (config->diff_ids.count != count)
		return th_fail(err, TH_FAILED,
			"the image's manifest and its config differ");
	draft->layers = calloc(count + 1, sizeof(*draft->layers));
	if (!draft->layers)
		return th_fail_memory(err);
	for (size_t i = 0; i < count; i++) {
		struct th_draft_layer *layer = &draft->layers[i];

		snprintf(layer->diff_id, sizeof(layer->diff_id), "%s",
			config->diff_ids.items[i]);
		memcpy(layer->blob, manifest->layers[i].digest,
			sizeof(layer->blob));
		layer->size_bytes = manifest->layers[i].size_bytes;
		layer->compression = manifest->layers[i].compression;
	}
	draft->layer_count = count;
	return mend_history(draft, err);
}

static int read_image(struct th_store *store, const char *image,
	struct th_draft *draft, struct th_error *err)
{
	struct th_image_config config = {0};
	struct th_manifest manifest = {0};
	struct th_buf body, config_body;
	json_t *doc = NULL;
	int rc = -1;

	th_buf_init(&body, TH_MANIFEST_MAX);
	th_buf_init(&config_body, TH_MANIFEST_MAX);
	if (th_blob_read(store, image, &body, err) == 0 &&
		th_manifest_parse(body.data, body.len, &manifest, err) == 0 &&
		th_blob_read(store, manifest.config.digest, &config_body,
			err) == 0 &&
		th_image_config_parse(
			config_body.data, config_body.len, &config, err) == 0 &&
		th_json_parse(config_body.data, config_body.len,
			"the image's config", &doc, err) == 0 &&
		take_config(draft, doc, err) == 0)
		rc = take_layers(draft, &manifest, &config, err);
	json_decref(doc);
	th_image_config_release(&config);
	th_manifest_release(&manifest);
	th_buf_release(&config_body);
	th_buf_release(&body);
	return rc;
}

static int begin_with_nothing(struct th_draft *draft, struct th_error *err)
{
	struct th_platform host = {0};

	th_platform_host(&host);
	draft->config = json_pack("{s:s s:s s:{s:s s:[]} s:[]}", "architecture",
		host.architecture, "os", host.os, "rootfs", "type", "layers",
		"diff_ids", "history");
	draft->layers = calloc(1, sizeof(*draft->layers));
	if (!draft->config || !draft->layers)
		return th_fail_memory(err);
	return host.variant[0] &&
			json_object_set_new(draft->config, "variant",
				json_string(host.variant))
		? th_fail_memory(err)
		: 0;
}

int th_draft_open(struct th_store *store, const char *image,
	struct th_draft *draft, struct th_error *err)
{
	memset(draft, 0, sizeof(*draft));
	return image ? read_image(store, image, draft, err)
		     : begin_with_nothing(draft, err);
}

void th_draft_release(struct th_draft *draft)
{
	json_decref(draft->config);
	json_decref(draft->annotations);
	free(draft->layers);
	memset(draft, 0, sizeof(*draft));
}

/* ---- layers ---- */

int th_draft_add(struct th_draft *draft, const struct th_draft_layer *layer,
	const char *created, const char *what, struct th_error *err)
{
	json_t *rootfs = json_object_get(draft->config, "rootfs");
	json_t *line =
		json_pack("{s:s s:s}", "created", created, "created_by", what);
	struct th_draft_layer *more;

	if (layer && draft->layer_count == TH_LAYERS_MAX) {
		json_decref(line);
		th_fail(err, TH_USAGE,
			"the image would have more than %d layers",
			TH_LAYERS_MAX);
		return th_hint(err, "join some of the steps");
	}
	if (line && !layer)
		json_object_set_new(line, "empty_layer", json_true());
	if (json_array_append_new(
		    json_object_get(draft->config, "history"), line))
		return th_fail_memory(err);
	if (!layer)
		return 0;
	more = realloc(draft->layers, (draft->layer_count + 1) * sizeof(*more));
	if (!more)
		return th_fail_memory(err);
	draft->layers = more;
	more[draft->layer_count++] = *layer;
	return json_array_append_new(json_object_get(rootfs, "diff_ids"),
		       json_string(layer->diff_id))
		? th_fail_memory(err)
		: 0;
}

int th_draft_stage(struct th_store *store, const struct th_draft_layer *layer,
	const char *blob, const char *tree, const struct th_layer_notes *notes,
	struct th_error *err)
{
	/* What an image has already is as good. */
	if (!th_stage_has_blob(store, layer->blob, layer->size_bytes) &&
		th_stage_keep_blob(store, layer->blob, blob, err))
		return -1;
	if (!tree || th_stage_has_tree(store, layer->diff_id))
		return 0;
	if (th_stage_keep_notes(store, layer->diff_id, notes, err))
		return -1;
	return th_stage_keep_tree(store, layer->diff_id, tree, err);
}

/* ---- the documents ---- */

static const char *type_of(enum th_compression compression)
{
	switch (compression) {
	case TH_PLAIN:
		return "application/vnd.oci.image.layer.v1.tar";
	case TH_GZIP:
		return TH_MEDIA_LAYER_GZIP;
	case TH_ZSTD:
		break;
	}
	return "application/vnd.oci.image.layer.v1.tar+zstd";
}

static int write_document(const json_t *doc, struct th_buf *body,
	char digest[TH_DIGEST_TEXT], struct th_error *err)
{
	char *text = th_json_text(doc, JSON_COMPACT | JSON_SORT_KEYS);

	if (text)
		th_buf_adds(body, text);
	if (!text || body->failed ||
		th_hash_once(body->data, body->len, digest)) {
		free(text);
		return th_fail_memory(err);
	}
	free(text);
	return 0;
}

static int write_manifest(const struct th_draft *draft, const char *config,
	size_t config_bytes, struct th_buf *body, char digest[TH_DIGEST_TEXT],
	struct th_error *err)
{
	json_t *layers = json_array(), *doc;
	int rc;

	for (size_t i = 0; i < draft->layer_count; i++)
		json_array_append_new(layers,
			json_pack("{s:s s:s s:I}", "mediaType",
				type_of(draft->layers[i].compression), "digest",
				draft->layers[i].blob, "size",
				(json_int_t)draft->layers[i].size_bytes));
	doc = json_pack("{s:i s:s s:{s:s s:s s:I} s:o}", "schemaVersion", 2,
		"mediaType", TH_MEDIA_MANIFEST, "config", "mediaType",
		TH_MEDIA_CONFIG, "digest", config, "size",
		(json_int_t)config_bytes, "layers", layers);
	if (doc && json_object_size(draft->annotations))
		json_object_set(doc, "annotations", draft->annotations);
	rc = write_document(doc, body, digest, err);
	json_decref(doc);
	return rc;
}

/* ---- the commit ---- */

static void no_phase(void *owner, enum th_layer_phase phase)
{
	(void)owner;
	(void)phase;
}

static void no_progress(void *owner, uint64_t have_bytes)
{
	(void)owner;
	(void)have_bytes;
}

/* An image that is there whole, and synced, needs its name only: 1 where that
 * is all, 0, -1. */
static int is_made(struct th_store *store, const char *digest, const char *name,
	struct th_error *err)
{
	char before[TH_DIGEST_TEXT];
	bool unsynced = false;
	int64_t known = 0;

	if (th_step_state_unsynced(store, &unsynced, err) ||
		th_db_number(store->db, 0, &known, err,
			"SELECT EXISTS(SELECT 1 FROM images WHERE digest=?)",
			"t", digest))
		return -1;
	if (!known || unsynced)
		return 0;
	if (!name)
		return 1;
	if (th_db_number(store->db, 0, &known, err,
		    "SELECT EXISTS(SELECT 1 FROM tags WHERE name=? AND"
		    " digest=?)",
		    "tt", name, digest))
		return -1;
	return known						       ? 1
		: th_image_state_tag(store, digest, name, before, err) ? -1
								       : 1;
}

/* How the stack finds the layers, where one has to be read again. */
static int settle(struct th_store *store, const struct th_draft *draft,
	const struct th_manifest *manifest,
	const struct th_image_config *config, struct th_cancel cancel,
	const struct th_commit *how, struct th_error *err)
{
	struct th_layer_job *jobs =
		calloc(manifest->layer_count, sizeof(*jobs));
	struct th_stack stack = {.count = manifest->layer_count};
	struct th_commit commit = *how;
	uint64_t *sizes = calloc(manifest->layer_count, sizeof(*sizes));
	int rc = -1;

	stack.layers = calloc(manifest->layer_count, sizeof(*stack.layers));
	if (!jobs || !stack.layers || !sizes) {
		th_fail_memory(err);
		goto out;
	}
	for (size_t i = 0; i < manifest->layer_count; i++) {
		jobs[i] = (struct th_layer_job){.store = store,
			.cancel = cancel,
			.blob = &manifest->layers[i],
			.diff_id = config->diff_ids.items[i],
			.phase = no_phase,
			.progress = no_progress};
		stack.layers[i].fetch = &jobs[i];
		sizes[i] = draft->layers[i].tree_bytes;
	}
	commit.stack = &stack;
	commit.tree_bytes = sizes;
	rc = th_stack_settle(store, &stack, err);
	if (rc == 0)
		rc = th_image_commit(store, &commit, err);
out:
	free(jobs);
	free(stack.layers);
	free(sizes);
	return rc;
}

int th_draft_commit(struct th_store *store, struct th_draft *draft,
	const struct th_step_key *step, const char *name,
	struct th_cancel cancel, char digest[TH_DIGEST_TEXT],
	struct th_error *err)
{
	struct th_image_config config = {0};
	struct th_manifest manifest = {0};
	char config_digest[TH_DIGEST_TEXT];
	int64_t began_us = th_clock_now_us();
	struct th_error later = {0};
	struct th_buf body, config_body;
	struct th_commit commit = {.manifest_body = &body,
		.config_body = &config_body,
		.digest = digest,
		.manifest = &manifest,
		.config = &config,
		.name = name,
		.step = step};
	int rc = -1;

	th_buf_init(&body, TH_MANIFEST_MAX);
	th_buf_init(&config_body, TH_MANIFEST_MAX);
	if (!draft->layer_count) {
		th_fail(err, TH_USAGE, "the image would have no layers");
		th_hint(err, "put something into it");
	} else if (write_document(draft->config, &config_body, config_digest,
			   err) == 0 &&
		write_manifest(draft, config_digest, config_body.len, &body,
			digest, err) == 0 &&
		/* What is written is read as that of anybody else. */
		th_image_config_parse(
			config_body.data, config_body.len, &config, err) == 0 &&
		th_manifest_parse(body.data, body.len, &manifest, err) == 0) {
		rc = step ? 0 : is_made(store, digest, name, err);
		if (rc == 0)
			rc = settle(store, draft, &manifest, &config, cancel,
				&commit, err);
		/* A commit syncs all, and then steps are known to last. If that
		 * cannot be noted, they count until the next start only. */
		if (rc == 0 && !step)
			th_step_state_synced(store, began_us, &later);
		rc = rc < 0 ? -1 : 0;
	}
	th_image_config_release(&config);
	th_manifest_release(&manifest);
	th_buf_release(&config_body);
	th_buf_release(&body);
	return rc;
}
