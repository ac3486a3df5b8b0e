/* The objects of a store: lists, one of them whole, and away with it. */
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "container/replace.h"
#include "group/group.h"
#include "image/remove_image.h"
#include "library/library.h"
#include "network/network.h"
#include "store/machine.h"
#include "view/describe.h"

/* ---- lists ---- */

static void append(void *owner, json_t *container)
{
	json_array_append(owner, container);
}

struct taker {
	void (*take)(void *owner, const json_t *container);
	void *owner;
};

static void pass_on(void *owner, json_t *container)
{
	const struct taker *taker = owner;

	taker->take(taker->owner, container);
}

static int each_container(th_hull *hull, bool all,
	void (*take)(void *owner, json_t *container), void *owner,
	size_t *not_shown, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	size_t count = 0;

	*not_shown = 0;
	if (all ? th_container_rows(&hull->context, &rows, &count, err)
		: th_container_rows_up(
			  &hull->context, &rows, &count, not_shown, err))
		return -1;
	th_db_hold(hull->context.store->db);
	th_view_each(&hull->context, rows, count, take, owner);
	th_db_let_go(hull->context.store->db);
	free(rows);
	return 0;
}

int th_containers_each(th_hull *hull, bool all,
	void (*take)(void *owner, const json_t *container), void *owner,
	size_t *not_shown, th_error *error)
{
	struct taker taker = {take, owner};
	struct th_error own = {0};

	return each_container(
		hull, all, pass_on, &taker, not_shown, error ? error : &own);
}

static json_t *list_containers(th_hull *hull, bool all, struct th_error *err)
{
	json_t *list = json_array();
	size_t hidden;

	if (each_container(hull, all, append, list, &hidden, err)) {
		json_decref(list);
		return NULL;
	}
	return json_pack("{s:o s:I}", "containers", list, "not-shown",
		(json_int_t)hidden);
}

/* Where the name of a container's image stands for another one here by now: its
 * digest. */
static bool has_newer(th_hull *hull, const struct th_container_row *row,
	char digest[TH_DIGEST_TEXT])
{
	struct th_image_row *images = NULL;
	struct th_error ignored = {0}; /* then none is known */
	size_t count = 0;
	bool newer;

	if (th_image_state_find(hull->context.store, row->image_name, &images,
		    &count, &ignored))
		return false;
	newer = count == 1 && strcmp(images[0].digest, row->image) != 0;
	if (newer)
		memcpy(digest, images[0].digest, TH_DIGEST_TEXT);
	th_image_rows_free(images, count);
	return newer;
}

/* Containers that run and have an older image than their name stands for. */
static json_t *find_older(th_hull *hull)
{
	struct th_container_row *rows = NULL;
	struct th_error ignored = {0}; /* then none is known */
	json_t *list = json_array();
	size_t count = 0;

	if (th_state_list(
		    hull->context.store->db, NULL, &rows, &count, &ignored))
		return list;
	for (size_t i = 0; i < count; i++) {
		char digest[TH_DIGEST_TEXT];

		if (th_container_is_up(&rows[i]) &&
			has_newer(hull, &rows[i], digest))
			json_array_append_new(list,
				json_pack("{s:s s:s s:s s:s}", "container",
					rows[i].name, "image",
					rows[i].image_name, "uses",
					rows[i].image, "newer", digest));
	}
	free(rows);
	return list;
}

static json_t *list_images(th_hull *hull, struct th_error *err)
{
	struct th_image_row *rows = NULL;
	json_t *list;
	size_t count = 0;

	if (th_image_state_find(hull->context.store, NULL, &rows, &count, err))
		return NULL;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, th_view_image(&rows[i]));
	th_image_rows_free(rows, count);
	return json_pack(
		"{s:o s:o}", "images", list, "older", find_older(hull));
}

static json_t *list_sessions(th_hull *hull, bool all, struct th_error *err)
{
	struct th_session_row *rows = NULL;
	json_t *list;
	size_t count = 0, hidden = 0;

	/* Those of a container whose keeper has gone have ended with it. */
	if (th_container_settle(&hull->context, err) ||
		th_state_sessions(hull->context.store->db, NULL, NULL, &rows,
			&count, err))
		return NULL;
	list = json_array();
	for (size_t i = 0; i < count; i++) {
		if (all || !rows[i].ended_us)
			json_array_append_new(list, th_view_session(&rows[i]));
		else
			hidden++;
	}
	free(rows);
	return json_pack(
		"{s:o s:I}", "sessions", list, "not-shown", (json_int_t)hidden);
}

static json_t *list_volumes(th_hull *hull, struct th_error *err)
{
	struct th_volume_row *rows = NULL;
	json_t *list;
	size_t count = 0;

	if (th_volume_list(hull->context.store, NULL, &rows, &count, err))
		return NULL;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(
			list, th_view_volume(&hull->context, &rows[i]));
	free(rows);
	return json_pack("{s:o}", "volumes", list);
}

static json_t *list_networks(th_hull *hull, struct th_error *err)
{
	struct th_network_row *rows = NULL;
	json_t *list;
	size_t count = 0;

	if (th_network_list(hull->context.store, NULL, &rows, &count, err))
		return NULL;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(
			list, th_view_network(&hull->context, &rows[i]));
	free(rows);
	return json_pack("{s:o}", "networks", list);
}

static json_t *list_groups(th_hull *hull, struct th_error *err)
{
	struct th_group_row *rows = NULL;
	json_t *list, *one = NULL;
	size_t count = 0;

	if (th_group_list(hull->context.store->db, NULL, &rows, &count, err))
		return NULL;
	list = json_array();
	for (size_t i = 0; i < count; i++) {
		one = th_view_group(&hull->context, rows[i].name, false, err);
		if (!one)
			break;
		json_array_append_new(list, one);
	}
	free(rows);
	if (count && !one) {
		json_decref(list);
		return NULL;
	}
	return json_pack("{s:o}", "groups", list);
}

int th_list(th_hull *hull, enum th_kind kind, bool all, json_t **doc,
	th_error *error)
{
	struct th_error own = {0};
	json_t *made = NULL;

	error = error ? error : &own;
	library_begin(doc);
	switch (kind) {
	case TH_KIND_CONTAINER:
		made = list_containers(hull, all, error);
		break;
	case TH_KIND_IMAGE:
		made = list_images(hull, error);
		break;
	case TH_KIND_SESSION:
		made = list_sessions(hull, all, error);
		break;
	case TH_KIND_VOLUME:
		made = list_volumes(hull, error);
		break;
	case TH_KIND_NETWORK:
		made = list_networks(hull, error);
		break;
	case TH_KIND_GROUP:
		made = list_groups(hull, error);
		break;
	}
	return made ? library_give(made, doc, error) : th_fail_memory(error);
}

/* ---- one of them ---- */

/* What another container of the same settings takes. */
static int add_hidden(th_hull *hull, const struct th_container_row *row,
	json_t *doc, struct th_error *err)
{
	struct th_strings keys = {0}, files = {0};
	int rc = 0;

	if (!json_object_get(doc, "settings"))
		rc = th_fail(err, TH_FAILED,
			"the settings of container \"%s\" cannot be read",
			row->name);
	if (rc == 0)
		rc = th_container_hidden(
			&hull->context, row, &keys, &files, err);
	if (rc == 0)
		json_object_set_new(doc, "hidden",
			json_pack("{s:o s:o}", "keys",
				th_json_from_strings(&keys), "files",
				th_json_from_strings(&files)));
	th_strings_release(&keys);
	th_strings_release(&files);
	return rc;
}

static json_t *view(th_hull *hull, const struct th_object *object,
	enum th_detail detail, struct th_error *err)
{
	const struct th_context *context = &hull->context;
	json_t *doc = NULL;

	switch (object->kind) {
	case TH_KIND_CONTAINER:
		doc = detail == TH_BRIEF
			? th_view_container(context, &object->container)
			: th_view_container_fully(context, &object->container,
				  detail >= TH_REVEALED);
		break;
	case TH_KIND_IMAGE:
		doc = detail == TH_BRIEF
			? th_view_image(&object->image)
			: th_view_image_fully(context, &object->image);
		if (object->by_name && detail == TH_BRIEF)
			json_object_set_new(
				doc, "found-as", json_string(object->name));
		break;
	case TH_KIND_SESSION:
		return th_view_session(&object->session);
	case TH_KIND_VOLUME:
		return th_view_volume(context, &object->volume);
	case TH_KIND_NETWORK:
		return th_view_network(context, &object->network);
	case TH_KIND_GROUP:
		return th_view_group(
			context, object->group.name, detail != TH_BRIEF, err);
	}
	if (doc && object->kind == TH_KIND_CONTAINER &&
		detail == TH_FOR_ANOTHER &&
		add_hidden(hull, &object->container, doc, err)) {
		json_decref(doc);
		return NULL;
	}
	return doc;
}

int th_object(th_hull *hull, const char *name, int kinds, enum th_detail detail,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	json_t *made;

	error = error ? error : &own;
	library_begin(doc);
	if (th_object_find(&hull->context, name, kinds, &object, error))
		return -1;
	made = view(hull, &object, detail, error);
	th_object_release(&object);
	return made ? library_give(made, doc, error) : th_fail_memory(error);
}

int th_past(th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	char id[TH_ID_LENGTH + 1];
	struct th_error own = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = th_state_last_named(hull->context.store->db, name, id, error);
	if (rc == 0)
		th_fail(error, TH_NOT_FOUND, "no container was called \"%s\"",
			name);
	return rc == 1 ? library_give(json_pack("{s:s}", "id", id), doc, error)
		       : -1;
}

/* ---- away ---- */

/* The way out: what uses it goes first. */
static void hint_users(const struct th_strings *users, struct th_error *err)
{
	struct th_buf text;

	th_buf_init(&text, sizeof(err->hint) - 1);
	th_buf_adds(&text, "remove these first: tidyhull remove");
	for (size_t i = 0; i < users->count; i++)
		th_buf_addf(&text, " %s", users->items[i]);
	th_hint(err, "%s", text.data);
	th_buf_release(&text);
}

static void hint_containers(
	th_hull *hull, const char *digest, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	struct th_error ignored = {0}; /* a hint only */
	struct th_strings users = {0};
	size_t count = 0;

	if (th_state_list(
		    hull->context.store->db, NULL, &rows, &count, &ignored))
		return;
	for (size_t i = 0; i < count; i++) {
		if (strcmp(rows[i].image, digest) == 0)
			th_strings_add(&users, rows[i].name);
	}
	hint_users(&users, err);
	th_strings_release(&users);
	free(rows);
}

static json_t *remove_image(
	th_hull *hull, const struct th_object *object, struct th_error *err)
{
	const struct th_image_row *image = &object->image;
	const char *name = object->by_name ? object->name
		: image->tags.count	   ? image->tags.items[0]
					   : NULL;
	bool gone;

	if (th_image_remove(hull->context.store, image->digest,
		    object->by_name ? object->name : NULL, &gone, err) == 0)
		return json_pack("{s:s s:s s:s? s:b}", "kind", "image",
			"digest", image->digest, "name", name, "gone",
			(int)gone);
	if (err->code == TH_IN_USE)
		hint_containers(hull, image->digest, err);
	return NULL;
}

/* A volume or a network: what has a name, and may be used by containers. */
static json_t *remove_named(th_hull *hull, const char *kind, const char *name,
	int (*away)(
		struct th_store *store, const char *name, struct th_error *err),
	int (*find_users)(struct th_store *store, const char *name,
		struct th_strings *users, struct th_error *err),
	struct th_error *err)
{
	struct th_store *store = hull->context.store;
	struct th_error ignored = {0}; /* a hint only */
	struct th_strings users = {0};

	if (away(store, name, err) == 0)
		return json_pack("{s:s s:s}", "kind", kind, "name", name);
	if (err->code == TH_IN_USE) {
		find_users(store, name, &users, &ignored);
		hint_users(&users, err);
		th_strings_release(&users);
	}
	return NULL;
}

static json_t *remove_object(th_hull *hull, const struct th_object *object,
	bool force, struct th_error *err)
{
	switch (object->kind) {
	case TH_KIND_CONTAINER:
		return th_container_remove(
			       &hull->context, &object->container, force, err)
			? NULL
			: json_pack("{s:s s:s s:s}", "kind", "container",
				  "name", object->container.name, "id",
				  object->container.id);
	case TH_KIND_IMAGE:
		return remove_image(hull, object, err);
	case TH_KIND_VOLUME:
		return remove_named(hull, "volume", object->volume.name,
			th_volume_remove, th_volume_users, err);
	case TH_KIND_NETWORK:
		return remove_named(hull, "network", object->network.name,
			th_network_remove, th_network_users, err);
	case TH_KIND_GROUP:
		th_fail(err, TH_IN_USE, "the group \"%s\" has containers",
			object->group.name);
		return NULL;
	case TH_KIND_SESSION:
		break;
	}
	th_fail(err, TH_USAGE, "a session ends by itself, or by a signal");
	return NULL;
}

/* There is none of the name any more: its network goes. */
static int tidy_group(
	th_hull *hull, const char *name, json_t **doc, struct th_error *err)
{
	if (strncmp(name, "group:", 6) == 0)
		name += 6;
	return th_group_tidy(&hull->context, name, err)
		? -1
		: library_give(
			  json_pack("{s:s s:s}", "kind", "group", "name", name),
			  doc, err);
}

int th_remove(th_hull *hull, const char *name, int kinds, bool force,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	json_t *made;

	error = error ? error : &own;
	library_begin(doc);
	if (th_object_find(&hull->context, name, kinds, &object, error)) {
		if (kinds != TH_KIND_GROUP || error->code != TH_NOT_FOUND)
			return -1;
		th_error_clear(error);
		return tidy_group(hull, name, doc, error);
	}
	made = remove_object(hull, &object, force, error);
	if (!made && doc && object.kind == TH_KIND_GROUP)
		*doc = json_pack("{s:s s:s}", "kind", "group", "name",
			object.group.name);
	th_object_release(&object);
	return made ? library_give(made, doc, error) : th_fail_memory(error);
}
