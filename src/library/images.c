/* Images: from registries and files, and back. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "build/changes.h"
#include "container/image_choice.h"
#include "container/shell.h"
#include "image/commit.h"
#include "image/locate.h"
#include "image/pack.h"
#include "image/packed.h"
#include "image/pull.h"
#include "image/push.h"
#include "image/resolve.h"
#include "library/images.h"
#include "oci/manifest.h"
#include "oci/reference.h"
#include "view/changes.h"

/* Larger layers are sent in pieces of this size, so that a broken upload can be
 * taken up. */
#define CHUNK_BYTES ((uint64_t)64 << 20)

static int find_image(th_hull *hull, const char *name, struct th_object *object,
	struct th_error *err)
{
	return th_object_find(&hull->context, name, TH_KIND_IMAGE, object, err);
}

/* ---- from elsewhere ---- */

static int set_pull(const th_hull *hull, const char *platform,
	struct th_pull_options *options, struct th_error *err)
{
	memset(options, 0, sizeof(*options));
	options->registries = &hull->registries;
	options->progress = hull->context.progress;
	options->owner = hull->context.owner;
	return platform ? th_platform_parse(platform, &options->platform, err)
			: 0;
}

int library_locate(th_hull *hull, struct th_store *store,
	struct th_reference *ref, struct th_error *err)
{
	struct th_strings hosts = {0}, notes = {0};
	size_t choice = 0;
	int rc = th_locate(store, &hull->registries, ref, &hosts, &notes, err);

	for (size_t i = 0; rc == 0 && i < notes.count; i++) {
		if (hull->options.notice)
			hull->options.notice(
				hull->options.owner, notes.items[i]);
	}
	if (rc == 0 && hosts.count > 1)
		rc = library_choose(hull, ref, &hosts, &choice, err);
	if (rc == 0)
		snprintf(ref->host, sizeof(ref->host), "%s",
			hosts.items[choice]);
	th_strings_release(&hosts);
	th_strings_release(&notes);
	return rc;
}

bool th_image_is_path(const char *text)
{
	return th_packed_is_path(text);
}

int th_image_fetch(th_hull *hull, const char *reference, const char *platform,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_pull_options options;
	struct th_reference ref;
	struct th_pulled pulled;
	json_t *made;

	error = error ? error : &own;
	library_begin(doc);
	if (set_pull(hull, platform, &options, error) ||
		th_reference_parse(reference, &ref, error) ||
		library_locate(hull, hull->context.store, &ref, error) ||
		th_pull(hull->context.store, &ref, &options, &pulled, error))
		return -1;
	made = library_pulled(&pulled);
	th_pulled_release(&pulled);
	return library_give(made, doc, error);
}

static int unpack_one(th_hull *hull, const struct th_packed *packed,
	const struct th_packed_image *image,
	const struct th_pull_options *options, json_t *list,
	struct th_error *err)
{
	struct th_pulled pulled;
	json_t *one;

	if (th_pull_packed(hull->context.store, packed, image, NULL, options,
		    &pulled, err))
		return -1;
	one = library_pulled(&pulled);
	library_tell_pulled(hull, one);
	json_array_append_new(list, one);
	th_pulled_release(&pulled);
	return 0;
}

int th_image_unpack(th_hull *hull, const char *path, const char *only,
	const char *platform, json_t **doc, th_error *error)
{
	const struct th_packed_image *images, *one = NULL;
	struct th_error own = {0};
	struct th_pull_options options;
	struct th_packed *packed = NULL;
	json_t *list = json_array();
	size_t count = 0;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = set_pull(hull, platform, &options, error);
	if (rc == 0)
		rc = th_packed_open(hull->context.store, path,
			(struct th_cancel){{hull->context.cancel}, NULL},
			&packed, error);
	if (rc == 0) {
		images = th_packed_images(packed, &count);
		rc = only || count == 0
			? th_packed_choose(packed, path, only, &one, error)
			: 0;
	}
	for (size_t i = 0; rc == 0 && i < count; i++) {
		if (!one || one == &images[i])
			rc = unpack_one(hull, packed, &images[i], &options,
				list, error);
	}
	th_packed_close(packed);
	if (rc) {
		json_decref(list);
		return -1;
	}
	return library_give_list("pulled", list, doc, error);
}

int th_image_bring(
	th_hull *hull, const json_t *settings, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_settings made = {0};
	struct th_image_choice choice = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = library_settings(settings, &hull->caller, &made, error);
	if (rc == 0)
		rc = th_image_choose(&hull->context, &made, &choice, error);
	if (rc == 0)
		rc = th_image_obtain(&hull->context, &made, &choice, error);
	if (rc == 0)
		rc = library_give(json_pack("{s:s s:s}", "name", choice.name,
					  "digest", choice.image.digest),
			doc, error);
	th_image_choice_release(&choice);
	th_settings_release(&made);
	return rc;
}

/* ---- to elsewhere ---- */

/* Where to: what was given, or the image's own name. */
static int read_target(const struct th_object *object, const char *name,
	const char *given, struct th_reference *ref, struct th_error *err)
{
	const struct th_image_row *image = &object->image;

	if (!given)
		given = object->by_name		 ? object->name
			: image->tags.count == 1 ? image->tags.items[0]
						 : NULL;
	if (!given) {
		th_fail(err, TH_USAGE,
			"%.12s has %s name: it is not clear which one to push",
			th_digest_hex(image->digest),
			image->tags.count ? "more than one" : "no");
		return th_hint(err,
			"tidyhull push %.12s registry.example/name:tag",
			th_digest_hex(image->digest));
	}
	if (th_reference_parse(given, ref, err))
		return -1;
	if (ref->digest[0] && strcmp(ref->digest, image->digest) != 0)
		return th_fail(err, TH_USAGE,
			"the image is not %s, so it cannot be pushed under "
			"that digest",
			ref->digest);
	if (ref->host[0])
		return 0;
	th_fail(err, TH_USAGE, "\"%.200s\" does not name a registry", given);
	return th_hint(err, "tidyhull push %.100s registry.example/%.100s",
		name, ref->path);
}

int th_image_send(th_hull *hull, const char *name, const char *reference,
	uint64_t chunk_bytes, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_push_options options = {.registries = &hull->registries,
		.chunk_bytes =
			chunk_bytes == UINT64_MAX ? CHUNK_BYTES : chunk_bytes,
		.progress = hull->context.progress,
		.owner = hull->context.owner};
	struct th_object object;
	struct th_reference ref;
	struct th_pushed pushed;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (find_image(hull, name, &object, error))
		return -1;
	rc = read_target(&object, name, reference, &ref, error);
	if (rc == 0)
		rc = th_push(hull->context.store, &object.image, &ref, &options,
			&pushed, error);
	th_object_release(&object);
	if (rc)
		return -1;
	return library_give(
		json_pack("{s:s s:s s:I s:I s:I s:I}", "name", pushed.name,
			"digest", pushed.digest, "layers",
			(json_int_t)pushed.layer_count, "already-there",
			(json_int_t)pushed.there_count, "taken-over",
			(json_int_t)pushed.mounted_count, "transferred",
			(json_int_t)pushed.sent_bytes),
		doc, error);
}

static int pack(th_hull *hull, const struct th_pack_item *items, size_t count,
	const char *path, bool replace, const json_t *settings, uint64_t *bytes,
	struct th_error *err)
{
	struct th_store *store = hull->context.store;
	struct th_cancel cancel = hull->registries.cancel;
	uint64_t all = 0;
	char *text = NULL;
	int rc;

	for (size_t i = 0; i < count; i++)
		all += items[i].image->blob_bytes;
	if (settings)
		text = th_json_text(settings, JSON_COMPACT | JSON_SORT_KEYS);
	th_work_begin(cancel.work, all);
	if (!settings)
		rc = th_pack(
			store, items, count, path, replace, cancel, bytes, err);
	else if (text)
		rc = th_pack_runnable(
			store, items, text, path, replace, cancel, bytes, err);
	else
		rc = th_fail_memory(err);
	th_work_end(cancel.work);
	free(text);
	return rc;
}

int th_image_pack(th_hull *hull, const json_t *names, const char *path,
	bool replace, const json_t *settings, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	size_t count = json_array_size(names), found = 0;
	struct th_object *objects = calloc(count + 1, sizeof(*objects));
	struct th_pack_item *items = calloc(count + 1, sizeof(*items));
	uint64_t bytes = 0;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = objects && items ? 0 : th_fail_memory(error);
	if (rc == 0 && settings && count != 1)
		rc = th_fail(error, TH_USAGE,
			"a file that can be executed holds one image");
	for (; rc == 0 && found < count; found++) {
		const char *name =
			json_string_value(json_array_get(names, found));

		rc = find_image(hull, name ? name : "", &objects[found], error);
		if (rc)
			break;
		items[found].image = &objects[found].image;
		items[found].name =
			objects[found].by_name ? objects[found].name : NULL;
	}
	if (rc == 0)
		rc = pack(hull, items, count, path, replace, settings, &bytes,
			error);
	while (objects && found > 0)
		th_object_release(&objects[--found]);
	free(objects);
	free(items);
	return rc ? -1
		  : library_give(json_pack("{s:s s:I s:I}", "file", path,
					 "images", (json_int_t)count, "size",
					 (json_int_t)bytes),
			    doc, error);
}

int th_image_packed_settings(const char *path, json_t **doc, th_error *error)
{
	const struct th_cancel never = {0};
	const struct th_packed_image *images;
	struct th_error own = {0};
	struct th_packed *packed = NULL;
	json_t *made = NULL;
	size_t count = 0;
	int rc = 0;

	error = error ? error : &own;
	library_begin(doc);
	if (th_packed_open(NULL, path, never, &packed, error))
		return -1;
	images = th_packed_images(packed, &count);
	if (count && images[0].settings)
		rc = th_json_parse(images[0].settings,
			strlen(images[0].settings), "the file's settings",
			&made, error);
	th_packed_close(packed);
	return rc ? -1 : library_give(made ? made : json_null(), doc, error);
}

/* ---- names ---- */

int library_image_name(const char *text, char name[TH_REFERENCE_MAX + 256],
	struct th_error *err)
{
	struct th_reference ref;

	if (th_reference_parse(text, &ref, err))
		return -1;
	if (ref.digest[0]) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" contains a digest, which cannot be "
			"assigned",
			text);
		return th_hint(err, "leave out the part after the @");
	}
	th_reference_format(&ref, name);
	return 0;
}

int th_image_name(th_hull *hull, const char *name, const char *new_name,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	char full[TH_REFERENCE_MAX + 256], before[TH_DIGEST_TEXT] = "";
	struct th_object object;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (find_image(hull, name, &object, error))
		return -1;
	rc = library_image_name(new_name, full, error);
	/* What a build's step has made lasts from now on. */
	if (rc == 0)
		rc = th_image_sync_steps(hull->context.store, error);
	if (rc == 0)
		rc = th_image_state_tag(hull->context.store,
			object.image.digest, full, before, error);
	if (rc == 0)
		rc = library_give(json_pack("{s:s s:s s:s?}", "name", full,
					  "digest", object.image.digest,
					  "before", before[0] ? before : NULL),
			doc, error);
	th_object_release(&object);
	return rc;
}

/* ---- what is in them ---- */

int th_image_shell(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	const char *path;

	error = error ? error : &own;
	library_begin(doc);
	if (find_image(hull, name, &object, error))
		return -1;
	path = th_shell_of_image(&hull->context, object.image.digest, error);
	th_object_release(&object);
	if (!path)
		return th_fail(error, TH_NO_PROGRAM, "the image has no shell");
	return library_give(json_pack("{s:s}", "path", path), doc, error);
}

int th_image_changes(th_hull *hull, const char *before, const char *after,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_object first, second;
	struct th_file_changes changes;
	json_t *made;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (find_image(hull, before, &first, error))
		return -1;
	rc = find_image(hull, after, &second, error);
	if (rc == 0) {
		rc = th_changes_of_images(&hull->context, first.image.digest,
			second.image.digest, &changes, error);
		th_object_release(&second);
	}
	th_object_release(&first);
	if (rc)
		return -1;
	made = th_view_changes(&changes);
	th_file_changes_release(&changes);
	return library_give(made, doc, error);
}

int th_image_hidden(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	struct th_hidden hidden;
	json_t *made;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (find_image(hull, name, &object, error))
		return -1;
	rc = th_hidden_of_image(
		&hull->context, object.image.digest, &hidden, error);
	th_object_release(&object);
	if (rc)
		return -1;
	made = th_view_hidden(&hidden);
	th_hidden_release(&hidden);
	return library_give(made, doc, error);
}
