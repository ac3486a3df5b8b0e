/* Registries: searching, looking before pulling, logins. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "image/packed.h"
#include "image/resolve.h"
#include "library/images.h"
#include "registry/client.h"
#include "registry/search.h"
#include "view/remote.h"

int th_registry_find(
	th_hull *hull, const char *term, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_strings notes = {0};
	struct th_found *list = NULL;
	json_t *found;
	size_t count = 0;
	int rc = -1;

	error = error ? error : &own;
	library_begin(doc);
	if (hull->config.registry_count == 0 && !strchr(term, '/')) {
		th_fail(error, TH_NOT_FOUND, "no registry is configured");
		return th_hint(error,
			"add one to the configuration (docs/configuration.md)");
	}
	if (th_search(&hull->registries, term, &list, &count, &notes, error) ==
		0) {
		found = json_array();
		for (size_t i = 0; i < count; i++)
			json_array_append_new(found,
				json_pack("{s:s+++ s:s s:s s:o s:i}", "name",
					list[i].host, "/", list[i].path, "",
					"host", list[i].host, "path",
					list[i].path, "tags",
					th_json_from_strings(&list[i].tags),
					"rank", list[i].rank));
		rc = library_give(
			json_pack("{s:o s:o}", "found", found, "notes",
				th_json_from_strings(&notes)),
			doc, error);
	}
	th_found_free(list, count);
	th_strings_release(&notes);
	return rc;
}

/* ---- looking ---- */

/* Takes the origin over. */
static int look(struct th_origin *origin, const char *name, const char *wanted,
	const struct th_platform *platform, json_t *list, struct th_error *err)
{
	struct th_reader *reader = origin ? th_reader_new(origin, err) : NULL;
	struct th_resolved resolved = {0};
	json_t *one;
	int rc = -1;

	if (reader)
		rc = th_resolve(reader, wanted, platform, &resolved, err);
	/* A look is worth something even where nothing fits this host. */
	if (rc == 0 ||
		(err->code == TH_NOT_FOUND && !platform->os[0] &&
			(resolved.offer_count ||
				resolved.config.diff_ids.count))) {
		one = th_view_resolved(name, &resolved);
		if (rc)
			json_object_set_new(one, "note", json_string(err->msg));
		json_array_append_new(list, one);
		th_error_clear(err);
		rc = 0;
	}
	if (reader)
		th_resolved_release(&resolved);
	th_reader_free(reader);
	th_origin_free(origin);
	return rc;
}

/* The images of a packed file. */
static int look_into(th_hull *hull, const char *path,
	const struct th_platform *platform, json_t *list, struct th_error *err)
{
	const struct th_packed_image *images;
	struct th_packed *packed = NULL;
	size_t count = 0;
	int rc = 0;

	if (th_packed_open(NULL, path, hull->registries.cancel, &packed, err))
		return -1;
	images = th_packed_images(packed, &count);
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = look(th_origin_packed(packed, err),
			images[i].name[0] ? images[i].name : path,
			images[i].digest, platform, list, err);
	th_packed_close(packed);
	return rc;
}

static int look_at(th_hull *hull, const char *name,
	const struct th_platform *platform, json_t *list, struct th_error *err)
{
	char full[TH_REFERENCE_MAX + 256];
	struct th_reference ref;

	if (th_reference_parse(name, &ref, err) ||
		library_locate(hull, NULL, &ref, err))
		return -1;
	th_reference_format(&ref, full);
	return look(th_origin_registry(&hull->registries, &ref, err), full,
		th_reference_wanted(&ref), platform, list, err);
}

int th_registry_peek(th_hull *hull, const char *name, const char *platform,
	json_t **doc, th_error *error)
{
	struct th_platform wanted = {.os = ""};
	struct th_error own = {0};
	json_t *list;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (platform && th_platform_parse(platform, &wanted, error))
		return -1;
	list = json_array();
	rc = th_packed_is_path(name)
		? look_into(hull, name, &wanted, list, error)
		: look_at(hull, name, &wanted, list, error);
	if (rc == 0)
		return library_give_list("images", list, doc, error);
	json_decref(list);
	return -1;
}

int th_registry_list_tags(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_strings tags = {0};
	struct th_registry *registry;
	struct th_reference ref;
	int rc = -1;

	error = error ? error : &own;
	library_begin(doc);
	if (th_reference_parse(name, &ref, error) ||
		library_locate(hull, NULL, &ref, error))
		return -1;
	registry = th_registry_new(&hull->registries, ref.host, error);
	if (registry)
		rc = th_registry_tags(registry, ref.path, &tags, error);
	th_registry_free(registry);
	if (rc == 0)
		rc = library_give(
			json_pack("{s:s++ s:o}", "name", ref.host, "/",
				ref.path, "tags", th_json_from_strings(&tags)),
			doc, error);
	th_strings_release(&tags);
	return rc;
}

/* ---- logins ---- */

/* Asks the registry with this login. 1 where it looked at it, 0 where it lets
 * everybody in, -1. */
static int greet(th_hull *hull, const char *host, const char *user,
	const char *password, struct th_error *err)
{
	struct th_login login = {.host = (char *)(uintptr_t)host,
		.user = (char *)(uintptr_t)user,
		.password = (char *)(uintptr_t)password};
	struct th_logins logins = {&login, 1};
	struct th_registry_options options = hull->registries;
	struct th_registry *registry;
	int rc = -1;

	options.access = th_access_new(&logins);
	if (!options.access)
		return th_fail_memory(err);
	registry = th_registry_new(&options, host, err);
	if (registry && th_registry_greet(registry, err) == 0)
		rc = th_access_knows(options.access, host, "");
	th_registry_free(registry);
	th_access_free(options.access);
	return rc;
}

int th_registry_check(const char *host, th_error *error)
{
	struct th_error own = {0};

	return th_host_check(host, error ? error : &own);
}

int th_registry_login(th_hull *hull, const char *host, const char *user,
	const char *password, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	int verified;

	error = error ? error : &own;
	library_begin(doc);
	if (th_host_check(host, error))
		return -1;
	verified = greet(hull, host, user, password, error);
	if (verified < 0 ||
		th_logins_keep(hull->logins_path, host, user, password, error))
		return -1;
	return library_give(
		json_pack("{s:b}", "verified", verified == 1), doc, error);
}

int th_registry_logout(th_hull *hull, const char *host, th_error *error)
{
	struct th_error own = {0};
	int rc;

	error = error ? error : &own;
	rc = th_logins_forget(hull->logins_path, host, error);
	if (rc == 0)
		return th_fail(
			error, TH_NOT_FOUND, "no login is stored for %s", host);
	return rc < 0 ? -1 : 0;
}
