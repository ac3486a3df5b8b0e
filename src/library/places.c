/* What containers share, and the store itself. */
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "container/new_network.h"
#include "library/library.h"

static int check_name(const char *name, struct th_error *err)
{
	if (th_name_valid(name))
		return 0;
	th_fail(err, TH_USAGE, "\"%.100s\" is not a valid name", name);
	return th_hint(err,
		"use up to 63 letters, digits, dots, dashes and underscores");
}

int th_volume_new(th_hull *hull, const char *name, th_error *error)
{
	struct th_error own = {0};
	int made;

	error = error ? error : &own;
	if (check_name(name, error))
		return -1;
	made = th_volume_make(hull->context.store, name, error);
	if (made == 0) {
		th_fail(error, TH_IN_USE, "the volume \"%s\" already exists",
			name);
		th_hint(error, "tidyhull show volume:%s", name);
	}
	return made == 1 ? 0 : -1;
}

/* One text may hold both. */
static int add_subnets(
	const char *text, struct th_strings *subnets, struct th_error *err)
{
	char *copy = strdup(text), *rest = NULL;
	int rc = copy ? 0 : -1;

	for (char *part = copy ? strtok_r(copy, ",", &rest) : NULL;
		part && rc == 0; part = strtok_r(NULL, ",", &rest))
		rc = th_strings_add(subnets, part);
	free(copy);
	return rc ? th_fail_memory(err) : 0;
}

int th_network_create(th_hull *hull, const char *name, const json_t *subnets,
	bool internal, bool host_loopback, th_error *error)
{
	struct th_error own = {0};
	struct th_new_network wish = {
		.name = name, .internal = internal, .loopback = host_loopback};
	struct th_network_row row;
	const json_t *subnet;
	size_t i;
	int rc = 0;

	error = error ? error : &own;
	json_array_foreach(subnets, i, subnet)
	{
		if (rc == 0)
			rc = json_is_string(subnet)
				? add_subnets(json_string_value(subnet),
					  &wish.subnets, error)
				: th_fail(error, TH_USAGE,
					  "subnets are a list of texts");
	}
	if (rc == 0)
		rc = check_name(name, error);
	if (rc == 0)
		rc = th_network_new(hull->context.store, &wish, &row, error);
	else
		rc = -1;
	th_strings_release(&wish.subnets);
	if (rc == 0) {
		th_fail(error, TH_IN_USE, "the network \"%s\" already exists",
			name);
		th_hint(error, "tidyhull show network:%s", name);
	}
	return rc == 1 ? 0 : -1;
}

/* ---- the store ---- */

int th_store_check(th_hull *hull, bool repair, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	/* With what the opening has found already. */
	struct th_findings *findings = &hull->findings;
	json_t *list;
	bool whole = true;

	error = error ? error : &own;
	library_begin(doc);
	if (th_check(&hull->context, repair, findings, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < findings->count; i++) {
		const struct th_finding *one = &findings->list[i];

		whole &= one->mended[0] != '\0';
		json_array_append_new(list,
			json_pack("{s:s s:o s:o s:o}", "part",
				th_part_word(one->part), "what",
				th_view_said(one->what), "finding",
				th_view_said(one->text), "mended",
				th_json_word(one->mended)));
	}
	return library_give(json_pack("{s:b s:o s:I s:I s:I s:I s:I}", "whole",
				    (int)whole, "findings", list, "images",
				    (json_int_t)findings->images, "blobs",
				    (json_int_t)findings->blobs, "layers",
				    (json_int_t)findings->trees, "containers",
				    (json_int_t)findings->containers, "volumes",
				    (json_int_t)findings->volumes),
		doc, error);
}

int th_store_settle(th_hull *hull, th_error *error)
{
	struct th_error own = {0};

	error = error ? error : &own;
	return th_container_settle(&hull->context, error);
}
