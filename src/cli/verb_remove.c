/* remove: any kind of object. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/choose.h"
#include "cli/doc.h"
#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool can_go(const json_t *container)
{
	return is_state(container, "created") || is_state(container, "stopped");
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

/* ---- what stays ---- */

#define OBJECT_TEXT 128

/* Adds the volumes that a container mounts by their names. */
static void add_volumes(
	struct invocation *call, const json_t *container, json_t *names)
{
	static const char word[] = "=volume:";
	struct th_error ignored = {0}; /* a hint only */
	json_t *doc = NULL, *mount;
	size_t i;

	th_object(call->hull, doc_text(container, "id"), TH_KIND_CONTAINER,
		TH_FULL, &doc, &ignored);
	json_array_foreach(
		doc_part(doc_part(doc, "settings"), "mount"), i, mount)
	{
		const char *at = strstr(json_string_value(mount), word);
		bool known = false;
		json_t *name;

		if (!at)
			continue;
		at += strlen(word);
		name = json_stringn(at, strcspn(at, ","));
		for (size_t k = 0; k < json_array_size(names); k++)
			known |= json_equal(json_array_get(names, k), name);
		if (!known)
			json_array_append(names, name);
		json_decref(name);
	}
	json_decref(doc);
}

/* People look for their data there. What was removed by the same line does not
 * stay. */
static void say_volumes(struct invocation *call, const json_t *names)
{
	char name[OBJECT_TEXT];
	size_t told = 0;

	for (size_t i = 0; i < json_array_size(names); i++) {
		struct th_error gone = {0};

		snprintf(name, sizeof(name), "volume:%s", doc_item(names, i));
		if (th_object(call->hull, name, TH_KIND_VOLUME, TH_BRIEF, NULL,
			    &gone))
			continue;
		printf("%s %s", told++ ? "," : "these volumes stay:",
			doc_item(names, i));
	}
	if (told)
		printf("; to remove one: tidyhull remove %s\n", name);
}

/* stay: gets the names of the volumes that it leaves; or NULL. */
static int remove_container(
	struct invocation *call, const json_t *container, json_t *stay)
{
	json_t *removed = NULL, *own = stay ? json_array() : NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	/* Afterwards nobody knows any more what it had. */
	if (own)
		add_volumes(call, container, own);
	if (th_remove(call->hull, doc_text(container, "id"), TH_KIND_CONTAINER,
		    option_given(call, "force"), &removed, &err))
		code = say_error(&err);
	else if (!call->quiet)
		say_removed(removed);
	if (own && code == EXIT_DONE)
		json_array_extend(stay, own);
	json_decref(removed);
	json_decref(own);
	return code;
}

/* ---- groups ---- */

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
		one = remove_container(call, container, NULL);
		code = code ? code : one;
	}
	return code;
}

/* All of it, and the network that came with it. */
static int remove_group(
	struct invocation *call, const json_t *group, json_t *stay)
{
	const json_t *containers = doc_part(group, "containers");
	struct th_error err = {0};
	int code = EXIT_DONE, one;
	json_t *ids;
	size_t i;

	if (!option_given(call, "force") && check_group(group, &err))
		return say_error(&err);
	for (i = 0; stay && i < json_array_size(containers); i++)
		add_volumes(call, json_array_get(containers, i), stay);
	ids = ids_of(containers);
	if (option_given(call, "force"))
		code = stop_all(call, ids, -1, false);
	one = remove_members(call, containers);
	code = code ? code : one;
	if (th_remove(call->hull, doc_text(group, "name"), TH_KIND_GROUP, false,
		    NULL, &err) &&
		!code)
		code = say_error(&err);
	json_decref(ids);
	return code;
}

static int remove_named(struct invocation *call, const char *name, json_t *stay)
{
	json_t *removed = NULL, *group = NULL, *container = NULL;
	json_t *own = stay ? json_array() : NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (own &&
		th_object(call->hull, name, TH_KIND_CONTAINER, TH_BRIEF,
			&container, &err) == 0)
		add_volumes(call, container, own);
	th_error_clear(&err);
	if (th_remove(call->hull, name,
		    TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_VOLUME |
			    TH_KIND_NETWORK | TH_KIND_GROUP,
		    option_given(call, "force"), &removed, &err) == 0) {
		if (!call->quiet)
			say_removed(removed);
		if (own)
			json_array_extend(stay, own);
	} else if (strcmp(doc_text(removed, "kind"), "group") == 0) {
		th_error_clear(&err);
		code = th_object(call->hull, doc_text(removed, "name"),
			       TH_KIND_GROUP, TH_BRIEF, &group, &err)
			? say_error(&err)
			: remove_group(call, group, stay);
	} else {
		code = say_error(&err);
	}
	json_decref(removed);
	json_decref(group);
	json_decref(container);
	json_decref(own);
	return code;
}

/* ---- all of them ---- */

static bool has_ended(const json_t *container)
{
	return is_state(container, "stopped") && !doc_flag(container, "wanted");
}

/* What containers take on the disk, by their names; where one is missing that
 * is not known, as of one that runs. A new reference. */
static json_t *sizes_of(const json_t *ended)
{
	const json_t *names = doc_part(ended, "containers");
	const json_t *bytes = doc_part(ended, "container-sizes");
	json_t *sizes = json_object();

	for (size_t i = 0; i < json_array_size(names); i++)
		json_object_set(
			sizes, doc_item(names, i), json_array_get(bytes, i));
	return sizes;
}

static void print_going(struct invocation *call, const json_t *list)
{
	struct th_error ignored = {0}; /* then without sizes */
	struct table *table = table_new();
	th_sweep *sweep = NULL;
	json_t *ended = NULL, *sizes, *one;
	char size[SIZE_TEXT];
	size_t i;

	th_sweep_find(call->hull, TH_SWEEP_CONTAINERS, INT64_MAX, &sweep,
		&ended, &ignored);
	sizes = sizes_of(ended);
	table_column(table, "container", 0);
	table_column(table, "state", 0);
	table_column(table, "on disk", TABLE_RIGHT);
	json_array_foreach(list, i, one)
	{
		uint64_t bytes =
			(uint64_t)doc_number(sizes, doc_text(one, "name"));

		size_text(bytes, size);
		table_row(table);
		table_cell(table, "bold", "%s", doc_text(one, "name"));
		table_cell(table, NULL, "%s", doc_text(one, "state"));
		table_cell(table, NULL, "%s", bytes ? size : "");
	}
	table_print(table);
	fflush(stdout);
	json_decref(sizes);
	json_decref(ended);
	th_sweep_free(sweep);
}

static int ask(struct invocation *call, const json_t *list)
{
	struct th_error err = {0};
	size_t count = json_array_size(list);
	char question[80];

	if (call->yes)
		return EXIT_DONE;
	if (!isatty(0) || !isatty(2)) {
		th_fail(&err, TH_USAGE,
			"remove --all asks first, and there is nobody to ask");
		th_hint(&err, "in a script: tidyhull remove --all%s --yes",
			option_given(call, "force") ? " --force" : "");
		return say_error(&err);
	}
	print_going(call, list);
	snprintf(question, sizeof(question), "remove %s?",
		count == 1 ? "it" : "all of them");
	if (choose_yes(question))
		return EXIT_DONE;
	puts("nothing was removed");
	return EXIT_FAILED;
}

static void tell_others(size_t others)
{
	if (others == 1)
		puts("1 other stays: it runs, is to run again, or was never "
		     "started (--force takes it, too)");
	else if (others)
		printf("%zu others stay: they run, are to run again, or were "
		       "never started (--force takes them, too)\n",
			others);
}

static int remove_all(struct invocation *call, json_t *stay)
{
	json_t *doc = NULL, *list = json_array(), *one;
	struct th_error err = {0};
	bool force = option_given(call, "force");
	size_t others = 0, i;
	int code = EXIT_DONE;

	if (th_list(call->hull, TH_KIND_CONTAINER, true, &doc, &err))
		code = say_error(&err);
	json_array_foreach(doc_part(doc, "containers"), i, one)
	{
		if (force || has_ended(one))
			json_array_append(list, one);
		else
			others++;
	}
	if (code == EXIT_DONE && json_array_size(list))
		code = ask(call, list);
	else if (code == EXIT_DONE && !call->quiet)
		puts(force ? "there is no container"
			   : "there is no container that has ended");
	for (i = 0; code == EXIT_DONE && i < json_array_size(list); i++)
		code = remove_container(call, json_array_get(list, i), stay);
	if (code == EXIT_DONE && !call->quiet)
		tell_others(others);
	json_decref(list);
	json_decref(doc);
	return code;
}

static int remove_each(struct invocation *call, json_t *stay)
{
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (option_given(call, "all"))
		return remove_all(call, stay);
	if (!call->object_count) {
		th_fail(&err, TH_USAGE, "remove: nothing given");
		th_hint(&err, "give a name, or use --all for what has ended");
		return say_error(&err);
	}
	for (int i = 0; i < call->object_count; i++) {
		int one = remove_named(call, call->objects[i], stay);

		code = code ? code : one;
	}
	return code;
}

static int run(struct invocation *call)
{
	json_t *stay = call->quiet ? NULL : json_array();
	int code = remove_each(call, stay);

	say_volumes(call, stay);
	json_decref(stay);
	return code;
}

static const struct option_spec options[] = {
	{"all", NULL, "all containers that have ended; with --force, all"},
	{"force", NULL, "stop running containers first, gracefully"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"Refuses what is in use, and says what uses "
				   "it. If an image has several",
	"names, only the given name is removed.", "",
	"--all shows names and sizes, and asks first. It leaves what runs, "
	"what",
	"a restart policy wants to run again, and what was never started; with",
	"--force it takes these, too. In a script: --yes.", NULL};

static const char *const examples[] = {"tidyhull remove gauge-north",
	"tidyhull remove --force gauge-north", "tidyhull remove selwick/gauge",
	"tidyhull remove volume:ledger",
	"tidyhull remove --force group:harbour", NULL};

const struct verb verb_remove = {.name = "remove",
	.group = "away with it",
	.called = "rm delete del erase destroy uninstall drop rmdir unlink "
		  "untag",
	.takes = "container image volume network group",
	.summary = "remove containers, groups, images, volumes, networks",
	.usage = "OBJECT...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
