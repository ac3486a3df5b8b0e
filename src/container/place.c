#include "container/place.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "container/lock.h"
#include "container/root.h"
#include "oci/bundle.h"

int th_place_parse(
	const char *text, struct th_place *place, struct th_error *err)
{
	const char *colon = strchr(text, ':');
	const char *slash = strchr(text, '/');

	memset(place, 0, sizeof(*place));
	place->root = place->lock = -1;
	if (!*text)
		return th_fail(err, TH_USAGE, "the path is empty");
	/* "container:NAME:/path" says the kind as everywhere. */
	if (strncmp(text, "container:", 10) == 0 && strchr(text + 10, ':'))
		colon = strchr(text + 10, ':');
	/* "volume:NAME", "volume:NAME/path". */
	if (strncmp(text, "volume:", 7) == 0) {
		place->is_volume = true;
		place->container = strndup(text + 7, strcspn(text + 7, "/"));
		place->path = strdup(
			strchr(text + 7, '/') ? strchr(text + 7, '/') : "/");
		return place->container && place->path ? 0
						       : th_fail_memory(err);
	}
	if (!colon || (slash && slash < colon)) {
		place->path = strdup(text);
		return place->path ? 0 : th_fail_memory(err);
	}
	if (colon[1] != '/') {
		th_fail(err, TH_USAGE,
			"the path inside the container is not absolute in "
			"\"%.200s\"",
			text);
		return th_hint(err,
			"write CONTAINER:/path; a file of this host with a "
			"colon in its name is ./%.100s",
			text);
	}
	place->container = strndup(text, (size_t)(colon - text));
	place->path = strdup(colon + 1);
	return place->container && place->path ? 0 : th_fail_memory(err);
}

/* Nothing that was written must be lost: the mount is not a volatile one. */
static int open_resting(const struct th_context *context,
	struct th_place *place, int folder, struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_plan plan;
	int rc;

	rc = th_lock_wait(
		store->run_fd, place->row.id, 5000, &place->lock, err);
	if (rc == 0)
		return th_fail(err, TH_IN_USE,
			"container \"%s\" is being started or removed by "
			"another command",
			place->row.name);
	if (rc < 0 || th_plan_read(folder, &plan, err))
		return -1;
	rc = th_plan_open_root(
		&plan, store, place->row.id, false, &place->root, err);
	th_plan_release(&plan);
	return rc;
}

static int open_volume(const struct th_context *context, struct th_place *place,
	struct th_error *err)
{
	struct th_object object;
	char *path;

	if (th_object_find(
		    context, place->container, TH_KIND_VOLUME, &object, err))
		return -1;
	path = th_volume_path(context->store, object.volume.name);
	if (!path)
		return th_fail_memory(err);
	place->root = open(path, O_PATH | O_DIRECTORY | O_CLOEXEC);
	if (place->root < 0)
		th_fail_sys(err, TH_FAILED, errno,
			"cannot open the volume \"%s\"", object.volume.name);
	free(path);
	place->open = place->root >= 0;
	return place->open ? 0 : -1;
}

int th_place_open(const struct th_context *context, struct th_place *place,
	struct th_error *err)
{
	struct th_bundle bundle;
	struct th_object object;
	int folder, rc;

	if (!place->container)
		return 0;
	if (place->is_volume)
		return open_volume(context, place, err);
	if (th_object_find(
		    context, place->container, TH_KIND_CONTAINER, &object, err))
		return -1;
	place->row = object.container;
	/* Its keeper has its files, and no process that could be asked. */
	if (place->row.state == TH_STATE_WAITING) {
		th_fail(err, TH_IN_USE,
			"container \"%s\" is waiting for its next attempt",
			place->row.name);
		return th_hint(err,
			"stop it first: tidyhull stop %s; or start it now: "
			"tidyhull start %s",
			place->row.name, place->row.name);
	}
	folder = th_container_folder(context, &place->row, err);
	if (folder < 0)
		return -1;
	rc = th_bundle_read(folder, &bundle, err);
	if (rc == 0) {
		place->uid = bundle.process.uid;
		place->gid = bundle.process.gid;
		th_bundle_release(&bundle);
		rc = place->row.state == TH_STATE_RUNNING ||
				place->row.state == TH_STATE_PAUSED
			? th_container_root(context, &place->row, &place->root,
				  &place->first_id, err)
			: open_resting(context, place, folder, err);
	}
	th_close(&folder);
	place->open = rc == 0;
	return rc;
}

void th_place_release(const struct th_context *context, struct th_place *place)
{
	th_close(&place->root);
	if (place->lock >= 0)
		th_lock_drop(
			context->store->run_fd, place->row.id, &place->lock);
	free(place->container);
	free(place->path);
	place->container = place->path = NULL;
}

int th_place_at(const struct th_place *place, const char *path)
{
	if (place->root < 0)
		return open(path, O_PATH | O_CLOEXEC);
	while (*path == '/')
		path++;
	return th_path_open_in_root(place->root, *path ? path : ".", O_PATH, 0);
}

#define NOBODY 65534

uint32_t th_place_id_inside(const struct th_place *place, uint32_t id)
{
	if (!place->first_id)
		return id;
	return id - place->first_id < TH_OWN_IDS ? id - place->first_id
						 : NOBODY;
}

int64_t th_place_id_outside(const struct th_place *place, uint32_t id)
{
	if (!place->first_id)
		return id;
	return id < TH_OWN_IDS ? (int64_t)place->first_id + id : -1;
}
