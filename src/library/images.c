/* Images: from registries and files, and back. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "image/commit.h"
#include "image/locate.h"
#include "image/pack.h"
#include "image/packed.h"
#include "image/pull.h"
#include "image/push.h"
#include "image/remove_image.h"
#include "library/library.h"
#include "oci/manifest.h"
#include "image/resolve.h"
#include "oci/reference.h"
#include "view/describe.h"

/* Larger layers are sent in pieces of this size. */
#define CHUNK_BYTES ((uint64_t)64 << 20)

static int find_image(th_hull *hull, const char *name, struct th_object *object,
	struct th_error *err)
{
	return th_object_find(&hull->context, name, TH_KIND_IMAGE, object, err);
}

int th_images(th_hull *hull, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_image_row *rows = NULL;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if (th_image_state_find(
		    hull->context.store, NULL, &rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, th_view_image(&rows[i]));
	th_image_rows_free(rows, count);
	return library_give_list("images", list, json, error);
}

int th_image(th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	json_t *doc;

	error = error ? error : &own;
	library_begin(json);
	if (find_image(hull, name, &object, error))
		return -1;
	doc = th_view_image_fully(&hull->context, &object.image);
	th_object_release(&object);
	return library_give(doc, json, error);
}

static void set_pull(const th_hull *hull, struct th_pull_options *options)
{
	options->registries = &hull->registries;
	options->progress = hull->context.progress;
	options->owner = hull->context.owner;
}

/* The registry that has it, where the reference names none. */
static int locate(th_hull *hull, struct th_reference *ref, struct th_error *err)
{
	struct th_strings hosts = {0}, notes = {0};
	size_t choice = 0;
	int rc = th_locate(hull->context.store, &hull->registries, ref, &hosts,
		&notes, err);

	for (size_t i = 0; rc == 0 && i < notes.count; i++) {
		if (hull->options.notice)
			hull->options.notice(
				hull->options.owner, notes.items[i]);
	}
	if (rc == 0 && hosts.count > 1)
		rc = hull->context.choose(
			hull->context.owner, ref, &hosts, &choice, err);
	if (rc == 0)
		snprintf(ref->host, sizeof(ref->host), "%s",
			hosts.items[choice]);
	th_strings_release(&hosts);
	th_strings_release(&notes);
	return rc;
}

int th_image_fetch(th_hull *hull, const char *reference, const char *platform,
	char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_pull_options options = {0};
	struct th_reference ref;
	struct th_pulled pulled;
	json_t *doc;

	error = error ? error : &own;
	library_begin(json);
	set_pull(hull, &options);
	if ((platform &&
		    th_platform_parse(platform, &options.platform, error)) ||
		th_reference_parse(reference, &ref, error) ||
		locate(hull, &ref, error) ||
		th_pull(hull->context.store, &ref, &options, &pulled, error))
		return -1;
	doc = json_pack("{s:s s:s s:I s:I s:I s:o}", "name", pulled.name,
		"digest", pulled.digest, "layers",
		(json_int_t)pulled.layer_count, "already-here",
		(json_int_t)pulled.here_count, "transferred",
		(json_int_t)pulled.transfer_bytes, "notes",
		th_json_from_strings(&pulled.notes));
	th_pulled_release(&pulled);
	return library_give(doc, json, error);
}

int th_image_send(
	th_hull *hull, const char *name, const char *reference, th_error *error)
{
	struct th_error own = {0};
	struct th_push_options options = {.registries = &hull->registries,
		.chunk_bytes = CHUNK_BYTES,
		.progress = hull->context.progress,
		.owner = hull->context.owner};
	struct th_object object;
	struct th_reference ref;
	struct th_pushed pushed;
	int rc;

	error = error ? error : &own;
	if (th_reference_parse(reference, &ref, error))
		return -1;
	if (!ref.host[0])
		return th_fail(error, TH_USAGE,
			"\"%.200s\" does not name a registry", reference);
	if (find_image(hull, name, &object, error))
		return -1;
	rc = th_push(hull->context.store, &object.image, &ref, &options,
		&pushed, error);
	th_object_release(&object);
	return rc;
}

int th_image_unpack(th_hull *hull, const char *path, th_error *error)
{
	struct th_error own = {0};
	struct th_pull_options options = {0};
	struct th_packed *packed = NULL;
	const struct th_packed_image *images;
	size_t count = 0;
	int rc = 0;

	error = error ? error : &own;
	set_pull(hull, &options);
	if (th_packed_open(hull->context.store, path, &packed, error))
		return -1;
	images = th_packed_images(packed, &count);
	if (!count)
		rc = th_fail(error, TH_NOT_FOUND, "there is no image in %.300s",
			path);
	for (size_t i = 0; rc == 0 && i < count; i++) {
		struct th_pulled pulled;

		rc = th_pull_packed(hull->context.store, packed, &images[i],
			NULL, &options, &pulled, error);
		if (rc == 0)
			th_pulled_release(&pulled);
	}
	th_packed_close(packed);
	return rc;
}

int th_image_pack(th_hull *hull, const char *const *names, size_t count,
	const char *path, bool replace, th_error *error)
{
	struct th_error own = {0};
	struct th_object *objects = calloc(count + 1, sizeof(*objects));
	struct th_pack_item *items = calloc(count + 1, sizeof(*items));
	struct th_cancel cancel = hull->registries.cancel;
	size_t found = 0;
	uint64_t bytes;
	int rc = objects && items ? 0 : th_fail_memory(error);

	error = error ? error : &own;
	for (; rc == 0 && found < count; found++) {
		rc = find_image(hull, names[found], &objects[found], error);
		if (rc)
			break;
		items[found].image = &objects[found].image;
		items[found].name =
			objects[found].by_name ? objects[found].name : NULL;
	}
	if (rc == 0)
		rc = th_pack(hull->context.store, items, count, path, replace,
			cancel, &bytes, error);
	while (found > 0)
		th_object_release(&objects[--found]);
	free(objects);
	free(items);
	return rc;
}

int th_image_name(
	th_hull *hull, const char *name, const char *new_name, th_error *error)
{
	struct th_error own = {0};
	char full[TH_REFERENCE_MAX + 256], before[TH_DIGEST_TEXT];
	struct th_object object;
	struct th_reference ref;
	int rc;

	error = error ? error : &own;
	if (th_reference_parse(new_name, &ref, error))
		return -1;
	if (ref.digest[0])
		return th_fail(error, TH_USAGE,
			"\"%.100s\" contains a digest, which cannot be "
			"assigned",
			new_name);
	th_reference_format(&ref, full);
	if (find_image(hull, name, &object, error))
		return -1;
	/* What a build's step has made lasts from now on. */
	rc = th_image_sync_steps(hull->context.store, error);
	if (rc == 0)
		rc = th_image_state_tag(hull->context.store,
			object.image.digest, full, before, error);
	th_object_release(&object);
	return rc;
}

int th_image_delete(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	bool gone;
	int rc;

	error = error ? error : &own;
	if (find_image(hull, name, &object, error))
		return -1;
	rc = th_image_remove(hull->context.store, object.image.digest,
		object.by_name ? object.name : NULL, &gone, error);
	th_object_release(&object);
	return rc;
}
