/* What containers share: volumes, networks, groups; and the store itself. */
#include <stdlib.h>
#include <string.h>

#include "container/new_network.h"
#include "group/group.h"
#include "library/library.h"
#include "view/describe.h"

/* ---- volumes ---- */

int th_volumes(th_hull *hull, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_volume_row *rows = NULL;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if (th_volume_list(hull->context.store, NULL, &rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(
			list, th_view_volume(&hull->context, &rows[i]));
	free(rows);
	return library_give_list("volumes", list, json, error);
}

int th_volume(th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;

	error = error ? error : &own;
	library_begin(json);
	if (th_object_find(
		    &hull->context, name, TH_KIND_VOLUME, &object, error))
		return -1;
	return library_give(
		th_view_volume(&hull->context, &object.volume), json, error);
}

static int check_name(const char *name, const char *what, struct th_error *err)
{
	if (th_name_valid(name))
		return 0;
	return th_fail(
		err, TH_USAGE, "\"%.100s\" is not a valid %s name", name, what);
}

int th_volume_new(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};
	int made;

	error = error ? error : &own;
	if (check_name(name, "volume", error))
		return -1;
	made = th_volume_make(hull->context.store, name, error);
	if (made == 0)
		return th_fail(error, TH_IN_USE,
			"the volume \"%s\" already exists", name);
	return made < 0 ? -1 : 0;
}

int th_volume_delete(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};

	error = error ? error : &own;
	return th_volume_remove(hull->context.store, name, error);
}

/* ---- networks ---- */

int th_networks(th_hull *hull, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_network_row *rows = NULL;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if (th_network_list(hull->context.store, NULL, &rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(
			list, th_view_network(&hull->context, &rows[i]));
	free(rows);
	return library_give_list("networks", list, json, error);
}

int th_network(th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;

	error = error ? error : &own;
	library_begin(json);
	if (th_object_find(
		    &hull->context, name, TH_KIND_NETWORK, &object, error))
		return -1;
	return library_give(
		th_view_network(&hull->context, &object.network), json, error);
}

int th_network_create(th_hull *hull, const char *name, const char *subnets,
	bool internal, th_error *error)
{
	struct th_error own = {0};
	struct th_new_network wish = {.name = name, .internal = internal};
	struct th_network_row row;
	char *copy = subnets ? strdup(subnets) : NULL, *rest = NULL;
	int rc = subnets && !copy ? th_fail_memory(error) : 0;

	error = error ? error : &own;
	if (rc == 0)
		rc = check_name(name, "network", error);
	for (char *part = copy ? strtok_r(copy, ",", &rest) : NULL;
		part && rc == 0; part = strtok_r(NULL, ",", &rest)) {
		if (th_strings_add(&wish.subnets, part))
			rc = th_fail_memory(error);
	}
	if (rc == 0)
		rc = th_network_new(hull->context.store, &wish, &row, error);
	th_strings_release(&wish.subnets);
	free(copy);
	if (rc < 0)
		return -1;
	return rc == 1 ? 0
		       : th_fail(error, TH_IN_USE,
				 "the network \"%s\" already exists", name);
}

int th_network_delete(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};

	error = error ? error : &own;
	return th_network_forget(hull->context.store, name, error);
}

/* ---- groups ---- */

int th_groups(th_hull *hull, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_group_row *rows = NULL;
	json_t *list;
	size_t count = 0;
	int rc = 0;

	error = error ? error : &own;
	library_begin(json);
	if (th_group_list(hull->context.store->db, NULL, &rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; rc == 0 && i < count; i++) {
		json_t *one = th_view_group(
			&hull->context, rows[i].name, false, error);

		rc = one ? 0 : -1;
		json_array_append_new(list, one);
	}
	free(rows);
	if (rc) {
		json_decref(list);
		return -1;
	}
	return library_give_list("groups", list, json, error);
}

int th_group(th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_object object;
	json_t *doc;

	error = error ? error : &own;
	library_begin(json);
	if (th_object_find(&hull->context, name, TH_KIND_GROUP, &object, error))
		return -1;
	doc = th_view_group(&hull->context, object.group.name, true, error);
	return doc ? library_give(doc, json, error) : -1;
}

/* ---- the store ---- */

int th_store_check(th_hull *hull, bool repair, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_findings findings = {0};
	json_t *list = json_array();
	bool whole = true;

	error = error ? error : &own;
	library_begin(json);
	if (th_check(&hull->context, repair, &findings, error)) {
		th_findings_release(&findings);
		json_decref(list);
		return -1;
	}
	for (size_t i = 0; i < findings.count; i++) {
		const struct th_finding *one = &findings.list[i];

		whole &= one->mended[0] != '\0';
		json_array_append_new(list,
			json_pack("{s:s s:s s:s s:s}", "part",
				th_part_word(one->part), "what", one->what,
				"text", one->text, "mended", one->mended));
	}
	th_findings_release(&findings);
	return library_give(
		json_pack("{s:b s:o}", "whole", whole, "findings", list), json,
		error);
}

int th_store_settle(th_hull *hull, th_error *error)
{
	struct th_error own = {0};

	error = error ? error : &own;
	return th_container_settle(&hull->context, error);
}
