/* remove: any kind of object. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool can_go(const json_t *container)
{
	return is_state(container, "created") || is_state(container, "stopped");
}

static bool can_be_forced(const json_t *container)
{
	(void)container;
	return true;
}

static void say_removed(const json_t *removed)
{
	const char *kind = doc_text(removed, "kind");
	const char *name = doc_text(removed, "name");

	if (strcmp(kind, "container") == 0)
		printf("removed container %s (%s)\n", name,
			doc_text(removed, "id"));
	else if (strcmp(kind, "image") != 0)
		printf("removed %s %s\n", kind, name);
	else if (doc_flag(removed, "gone"))
		printf("removed image %s (%.19s)\n", *name ? name : "untagged",
			doc_text(removed, "digest"));
	else
		printf("removed the name %s; the image has other names\n",
			name);
}

static int remove_container(struct invocation *call, const json_t *container)
{
	json_t *removed = NULL;
	struct th_error err = {0};

	if (th_remove(call->hull, doc_text(container, "id"), TH_KIND_CONTAINER,
		    option_given(call, "force"), &removed, &err))
		return say_error(&err);
	if (!call->quiet)
		say_removed(removed);
	json_decref(removed);
	return EXIT_DONE;
}

/* ---- groups ---- */

/* Says what stays: people look for their data there. */
static void say_volumes(struct invocation *call, const json_t *names)
{
	size_t count = json_array_size(names);

	if (!count || call->quiet)
		return;
	printf("its volumes stay:");
	for (size_t i = 0; i < count; i++)
		printf("%s %s", i ? "," : "", doc_item(names, i));
	printf("; to remove one: tidyhull remove volume:%s\n",
		doc_item(names, 0));
}

static bool has_any(const json_t *names, const json_t *containers)
{
	for (size_t i = 0; i < json_array_size(names); i++) {
		for (size_t k = 0; k < json_array_size(containers); k++) {
			if (strcmp(doc_item(names, i),
				    doc_text(json_array_get(containers, k),
					    "name")) == 0)
				return true;
		}
	}
	return false;
}

/* Those that have names of their own, and are used by the containers. */
static json_t *volumes_of(struct invocation *call, const json_t *containers)
{
	json_t *all = NULL, *names = json_array(), *volume;
	struct th_error ignored = {0}; /* a hint only */
	size_t i;

	th_list(call->hull, TH_KIND_VOLUME, true, &all, &ignored);
	json_array_foreach(doc_part(all, "volumes"), i, volume)
	{
		if (doc_flag(volume, "named") &&
			has_any(doc_part(volume, "containers"), containers))
			json_array_append(
				names, json_object_get(volume, "name"));
	}
	json_decref(all);
	return names;
}

/* What runs stays, unless somebody says otherwise. */
static int check_group(const json_t *group, struct th_error *err)
{
	const json_t *one;
	size_t i;

	json_array_foreach(doc_part(group, "containers"), i, one)
	{
		if (can_go(one))
			continue;
		th_fail(err, TH_IN_USE,
			"container \"%s\" of the group \"%s\" is %s",
			doc_text(one, "name"), doc_text(group, "name"),
			doc_text(one, "state"));
		return th_hint(err,
			"stop it first (tidyhull stop group:%s), or use "
			"--force",
			doc_text(group, "name"));
	}
	return 0;
}

/* The last ones first. What its container has taken along is gone by then. */
static int remove_members(struct invocation *call, const json_t *containers)
{
	int code = EXIT_DONE;

	for (size_t i = json_array_size(containers); i > 0; i--) {
		const json_t *container = json_array_get(containers, i - 1);
		struct th_error gone = {0};
		int one;

		if (th_object(call->hull, doc_text(container, "id"),
			    TH_KIND_CONTAINER, TH_BRIEF, NULL, &gone))
			continue;
		one = remove_container(call, container);
		code = code ? code : one;
	}
	return code;
}

/* All of it, and the network that came with it. */
static int remove_group(struct invocation *call, const json_t *group)
{
	const json_t *containers = doc_part(group, "containers");
	json_t *volumes, *ids;
	struct th_error err = {0};
	int code = EXIT_DONE, one;

	if (!option_given(call, "force") && check_group(group, &err))
		return say_error(&err);
	volumes = volumes_of(call, containers);
	ids = ids_of(containers);
	if (option_given(call, "force"))
		code = stop_all(call, ids, -1, false);
	one = remove_members(call, containers);
	code = code ? code : one;
	if (th_remove(call->hull, doc_text(group, "name"), TH_KIND_GROUP, false,
		    NULL, &err) &&
		!code)
		code = say_error(&err);
	say_volumes(call, volumes);
	json_decref(volumes);
	json_decref(ids);
	return code;
}

static int remove_named(struct invocation *call, const char *name)
{
	json_t *removed = NULL, *group = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (th_remove(call->hull, name,
		    TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_VOLUME |
			    TH_KIND_NETWORK | TH_KIND_GROUP,
		    option_given(call, "force"), &removed, &err) == 0) {
		if (!call->quiet)
			say_removed(removed);
	} else if (strcmp(doc_text(removed, "kind"), "group") == 0) {
		th_error_clear(&err);
		code = th_object(call->hull, doc_text(removed, "name"),
			       TH_KIND_GROUP, TH_BRIEF, &group, &err)
			? say_error(&err)
			: remove_group(call, group);
	} else {
		code = say_error(&err);
	}
	json_decref(removed);
	json_decref(group);
	return code;
}

static int run(struct invocation *call)
{
	int code = EXIT_DONE;

	if (option_given(call, "all") || call->object_count == 0)
		return each_container(call,
			option_given(call, "force") ? can_be_forced : can_go,
			remove_container);
	for (int i = 0; i < call->object_count; i++) {
		int one = remove_named(call, call->objects[i]);

		code = code ? code : one;
	}
	return code;
}

static const struct option_spec options[] = {
	{"all", NULL, "all containers that are not running; with --force, all"},
	{"force", NULL, "stop running containers first, gracefully"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"Refuses what is in use, and says what uses "
				   "it. If an image has several",
	"names, only the given name is removed.", NULL};

static const char *const examples[] = {"tidyhull remove gauge-north",
	"tidyhull remove --force gauge-north", "tidyhull remove selwick/gauge",
	"tidyhull remove volume:ledger",
	"tidyhull remove --force group:harbour", NULL};

const struct verb verb_remove = {.name = "remove",
	.group = "away with it",
	.summary = "remove containers, groups, images, volumes, networks",
	.usage = "OBJECT...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
