/* What a person means by a word: a container or an image. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "container/replace.h"
#include "store/near.h"

struct finds {
	struct th_container_row *containers;
	size_t container_count;
	struct th_image_row *images;
	size_t image_count;
	struct th_session_row *sessions;
	size_t session_count;
	struct th_volume_row *volumes;
	size_t volume_count;
	struct th_network_row *networks;
	size_t network_count;
	struct th_group_row *groups;
	size_t group_count;
};

static size_t total(const struct finds *finds)
{
	return finds->container_count + finds->image_count +
		finds->session_count + finds->volume_count +
		finds->network_count + finds->group_count;
}

/* The image was found by the beginning of its digest. */
static bool is_by_digest(const struct th_image_row *image, const char *text)
{
	return strncmp(th_digest_hex(image->digest), text, strlen(text)) == 0 ||
		strncmp(image->digest, text, strlen(text)) == 0;
}

static bool is_container(const struct th_container_row *row, const char *text)
{
	return strcmp(row->name, text) == 0 || strcmp(row->id, text) == 0;
}

/* What has the whole word for its name, or for its ID, is meant, even where the
 * IDs of others begin so. */
static void keep_exact(struct finds *finds, const char *text)
{
	size_t containers = 0, sessions = 0, images = 0;

	for (size_t i = 0; i < finds->container_count; i++)
		containers += is_container(&finds->containers[i], text);
	for (size_t i = 0; i < finds->session_count; i++)
		sessions += strcmp(finds->sessions[i].id, text) == 0;
	for (size_t i = 0; i < finds->image_count; i++)
		images += !is_by_digest(&finds->images[i], text);
	if (!(containers + sessions + images + finds->volume_count +
		    finds->network_count + finds->group_count))
		return;
	for (size_t i = 0; containers && i < finds->container_count; i++) {
		if (is_container(&finds->containers[i], text))
			finds->containers[0] = finds->containers[i];
	}
	finds->container_count = containers > 0;
	for (size_t i = 0; sessions && i < finds->session_count; i++) {
		if (strcmp(finds->sessions[i].id, text) == 0)
			finds->sessions[0] = finds->sessions[i];
	}
	finds->session_count = sessions;
	if (!images && finds->image_count) {
		th_image_rows_free(finds->images, finds->image_count);
		finds->images = NULL;
		finds->image_count = 0;
	}
}

static int look(const struct th_context *context, const char *text, int kinds,
	struct finds *finds, struct th_error *err)
{
	struct th_db *db = context->store->db;

	if (kinds & TH_KIND_CONTAINER) {
		/* A killed command may have left a name with the wrong one. */
		th_replacements_settle(context);
		if (th_state_list(db, text, &finds->containers,
			    &finds->container_count, err))
			return -1;
	}
	if (kinds & TH_KIND_SESSION &&
		th_state_sessions(db, NULL, text, &finds->sessions,
			&finds->session_count, err))
		return -1;
	if (kinds & TH_KIND_VOLUME &&
		th_volume_list(context->store, text, &finds->volumes,
			&finds->volume_count, err))
		return -1;
	if (kinds & TH_KIND_NETWORK &&
		th_network_list(context->store, text, &finds->networks,
			&finds->network_count, err))
		return -1;
	if (kinds & TH_KIND_GROUP &&
		th_group_list(
			db, text, &finds->groups, &finds->group_count, err))
		return -1;
	if (kinds & TH_KIND_IMAGE &&
		th_image_state_find(context->store, text, &finds->images,
			&finds->image_count, err))
		return -1;
	keep_exact(finds, text);
	return 0;
}

/* A group is none of what is wanted, but has some: 0, or -1 where it is none.
 */
static int hint_group(const struct th_context *context, const char *text,
	struct th_error *err)
{
	struct th_container_row row;
	struct th_member *members = NULL;
	struct th_error ignored = {0}; /* a hint only */
	char names[160] = "";
	size_t count = 0;

	if (th_member_list(
		    context->store->db, text, &members, &count, &ignored))
		return -1;
	for (size_t i = 0; i < count; i++) {
		size_t used = strlen(names);

		if (used < 100 &&
			th_state_get(context->store->db, members[i].container,
				&row, &ignored) == 1)
			snprintf(names + used, sizeof(names) - used, "%s%s",
				used ? ", " : "", row.name);
	}
	free(members);
	if (count)
		th_hint(err, "it is a group; give one of its containers: %s",
			names);
	return count ? 0 : -1;
}

static int not_found(const struct th_context *context, const char *text,
	int kinds, struct th_error *err)
{
	const char *what = kinds == TH_KIND_CONTAINER ? "container"
		: kinds == TH_KIND_IMAGE	      ? "image"
		: kinds == TH_KIND_VOLUME	      ? "volume"
		: kinds == TH_KIND_NETWORK	      ? "network"
		: kinds == TH_KIND_SESSION	      ? "session"
		: kinds == TH_KIND_GROUP	      ? "group"
		: kinds == (TH_KIND_CONTAINER | TH_KIND_GROUP)
		? "container or group"
		: kinds == (TH_KIND_CONTAINER | TH_KIND_IMAGE)
		? "container or image"
		: kinds == (TH_KIND_CONTAINER | TH_KIND_SESSION)
		? "container or session"
		: "container, image, volume, network or session";
	struct th_image_row *images = NULL;
	struct th_error ignored = {0}; /* a hint only */
	struct th_container_row row;
	char near[TH_NEAR_NAME];
	size_t count = 0;

	th_fail(err, TH_NOT_FOUND, "there is no %s \"%.100s\"", what, text);
	if (kinds & TH_KIND_CONTAINER && !(kinds & TH_KIND_GROUP))
		hint_group(context, text, err);
	/* People mix up the IDs of images and containers. */
	if (!(kinds & TH_KIND_IMAGE) && kinds & TH_KIND_CONTAINER &&
		th_image_state_find(
			context->store, text, &images, &count, &ignored) == 0) {
		if (count)
			th_hint(err,
				"it is an image; tidyhull list --all shows "
				"containers, tidyhull launch %.80s creates one",
				text);
		th_image_rows_free(images, count);
	}
	if (!(kinds & TH_KIND_CONTAINER) && kinds & TH_KIND_IMAGE &&
		th_state_get_named(context->store->db, text, &row, &ignored) ==
			1)
		th_hint(err,
			"it is a container: tidyhull capture %s IMAGE makes an "
			"image of it",
			text);
	snprintf(near, sizeof(near), "%.*s", (int)strcspn(text, ":/"), text);
	if (kinds & TH_KIND_CONTAINER && strpbrk(text, ":/") &&
		th_state_get_named(context->store->db, near, &row, &ignored) ==
			1)
		th_hint(err,
			"the container is %s; the rest does not belong "
			"to its name",
			row.name);
	if (kinds & TH_KIND_CONTAINER &&
		th_near_container(context->store, text, near))
		th_hint(err, "did you mean %s? tidyhull list --all shows all",
			near);
	if (kinds & TH_KIND_IMAGE && th_near_image(context->store, text, near))
		th_hint(err, "did you mean %s? tidyhull list images shows all",
			near);
	return th_hint(err, "tidyhull list %s shows all",
		kinds == TH_KIND_IMAGE		   ? "images"
			: kinds == TH_KIND_VOLUME  ? "volumes"
			: kinds == TH_KIND_NETWORK ? "networks"
			: kinds == TH_KIND_SESSION ? "sessions --all"
						   : "--all");
}

static int ambiguous(
	const char *text, const struct finds *finds, struct th_error *err)
{
	struct th_buf list;

	th_buf_init(&list, sizeof(err->hint) - 1);
	th_buf_adds(&list, "choose: ");
	for (size_t i = 0; i < finds->container_count && i < 4; i++)
		th_buf_addf(&list, "%scontainer:%s (%s)", i ? ", " : "",
			finds->containers[i].id, finds->containers[i].name);
	for (size_t i = 0; i < finds->image_count && i < 4; i++)
		th_buf_addf(&list, "%simage:%.19s",
			i || finds->container_count ? ", " : "",
			finds->images[i].digest);
	for (size_t i = 0; i < finds->session_count && i < 4; i++)
		th_buf_addf(&list, "%ssession:%s", list.len > 8 ? ", " : "",
			finds->sessions[i].id);
	for (size_t i = 0; i < finds->volume_count && i < 4; i++)
		th_buf_addf(&list, "%svolume:%s", list.len > 8 ? ", " : "",
			finds->volumes[i].name);
	for (size_t i = 0; i < finds->network_count; i++)
		th_buf_addf(&list, "%snetwork:%s", list.len > 8 ? ", " : "",
			finds->networks[i].name);
	for (size_t i = 0; i < finds->group_count; i++)
		th_buf_addf(&list, "%sgroup:%s", list.len > 8 ? ", " : "",
			finds->groups[i].name);
	th_fail(err, TH_USAGE, "\"%.100s\" matches %zu objects", text,
		total(finds));
	th_hint(err, "%s", list.data);
	th_buf_release(&list);
	return -1;
}

/* The name by which the image was asked for, where it was one. */
static void note_name(struct th_object *object, const char *text)
{
	struct th_reference ref;
	struct th_error ignored = {0}; /* then it is an ID */
	char full[TH_REFERENCE_MAX + 256];

	if (th_reference_parse(text, &ref, &ignored) || ref.digest[0])
		return;
	th_reference_format(&ref, full);
	for (size_t i = 0; i < object->image.tags.count; i++) {
		const char *tag = object->image.tags.items[i];
		const char *slash = strchr(tag, '/');

		if (strcmp(tag, full) == 0 ||
			(!ref.host[0] && slash &&
				strcmp(slash + 1, full) == 0)) {
			object->by_name = true;
			snprintf(object->name, sizeof(object->name), "%s", tag);
		}
	}
}

int th_object_find(const struct th_context *context, const char *text,
	int kinds, struct th_object *object, struct th_error *err)
{
	struct finds finds = {0};
	int rc = -1;

	memset(object, 0, sizeof(*object));
	if (strncmp(text, "container:", 10) == 0) {
		text += 10;
		kinds &= TH_KIND_CONTAINER;
	} else if (strncmp(text, "image:", 6) == 0) {
		text += 6;
		kinds &= TH_KIND_IMAGE;
	} else if (strncmp(text, "session:", 8) == 0) {
		text += 8;
		kinds &= TH_KIND_SESSION;
	} else if (strncmp(text, "volume:", 7) == 0) {
		text += 7;
		kinds &= TH_KIND_VOLUME;
	} else if (strncmp(text, "network:", 8) == 0) {
		text += 8;
		kinds &= TH_KIND_NETWORK;
	} else if (strncmp(text, "group:", 6) == 0) {
		text += 6;
		if (!(kinds & TH_KIND_GROUP) &&
			hint_group(context, text, err) == 0)
			return th_fail(err, TH_USAGE,
				"an object of another kind is needed here");
		kinds = TH_KIND_GROUP;
	}
	if (!kinds || !*text)
		return th_fail(err, TH_USAGE,
			"an object of another kind is needed here");
	if (look(context, text, kinds, &finds, err))
		goto out;
	if (total(&finds) > 1) {
		ambiguous(text, &finds, err);
	} else if (finds.container_count == 1) {
		object->kind = TH_KIND_CONTAINER;
		object->container = finds.containers[0];
		rc = th_container_settle_row(context, &object->container, err);
		if (rc == 0 && !object->container.id[0])
			rc = not_found(context, text, kinds, err);
	} else if (finds.image_count == 1) {
		object->kind = TH_KIND_IMAGE;
		object->image = finds.images[0];
		finds.image_count = 0;
		note_name(object, text);
		rc = 0;
	} else if (finds.volume_count == 1) {
		object->kind = TH_KIND_VOLUME;
		object->volume = finds.volumes[0];
		rc = 0;
	} else if (finds.network_count == 1) {
		object->kind = TH_KIND_NETWORK;
		object->network = finds.networks[0];
		rc = 0;
	} else if (finds.group_count == 1) {
		object->kind = TH_KIND_GROUP;
		object->group = finds.groups[0];
		rc = 0;
	} else if (finds.session_count == 1) {
		object->kind = TH_KIND_SESSION;
		object->session = finds.sessions[0];
		rc = 0;
	} else {
		not_found(context, text, kinds, err);
	}
out:
	free(finds.sessions);
	free(finds.volumes);
	free(finds.networks);
	free(finds.groups);
	free(finds.containers);
	th_image_rows_free(finds.images, finds.image_count);
	return rc;
}

void th_object_release(struct th_object *object)
{
	th_strings_release(&object->image.tags);
}
