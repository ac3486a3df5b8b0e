/* remove: any kind of object. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "image/remove_image.h"

static bool can_go(const struct th_container_row *row)
{
	return row->state == TH_STATE_CREATED || row->state == TH_STATE_STOPPED;
}

static bool can_be_forced(const struct th_container_row *row)
{
	(void)row;
	return true;
}

static int remove_container(
	struct invocation *call, struct th_container_row *row)
{
	struct th_error err = {0};

	if (th_container_remove(&call->hull.context, row,
		    option_given(call, "force"), &err))
		return say_error(&err);
	if (!call->quiet)
		printf("removed container %s (%s)\n", row->name, row->id);
	return EXIT_DONE;
}

/* Who uses the image, for the way out. */
static void add_users(
	struct invocation *call, const char *digest, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	struct th_error ignored = {0}; /* a hint only */
	size_t count = 0;
	struct th_buf text;

	th_buf_init(&text, sizeof(err->hint) - 1);
	th_buf_adds(&text, "remove these first: tidyhull remove");
	if (th_state_list(call->hull.context.store->db, NULL, &rows, &count,
		    &ignored) == 0) {
		for (size_t i = 0; i < count; i++) {
			if (strcmp(rows[i].image, digest) == 0)
				th_buf_addf(&text, " %s", rows[i].name);
		}
	}
	th_hint(err, "%s", text.data);
	th_buf_release(&text);
	free(rows);
}

static int remove_image(struct invocation *call, struct th_object *object)
{
	const char *digest = object->image.digest;
	struct th_error err = {0};
	bool gone;

	if (th_image_remove(call->hull.context.store, digest,
		    object->by_name ? object->name : NULL, &gone, &err)) {
		if (err.code == TH_IN_USE)
			add_users(call, digest, &err);
		return say_error(&err);
	}
	if (call->quiet)
		return EXIT_DONE;
	if (gone)
		printf("removed image %s (%.19s)\n",
			object->by_name ? object->name
				: object->image.tags.count
				? object->image.tags.items[0]
				: "untagged",
			digest);
	else
		printf("removed the name %s; the image has other names\n",
			object->name);
	return EXIT_DONE;
}

/* The way out: what uses it goes first. */
static void remove_first(struct th_strings *users, struct th_error *err)
{
	struct th_buf text;

	th_buf_init(&text, sizeof(err->hint) - 1);
	th_buf_adds(&text, "remove these first: tidyhull remove");
	for (size_t i = 0; i < users->count; i++)
		th_buf_addf(&text, " %s", users->items[i]);
	th_hint(err, "%s", text.data);
	th_buf_release(&text);
	th_strings_release(users);
}

/* A volume or a network: what has a name, and may be used by containers. */
static int remove_named(struct invocation *call, const char *kind,
	const char *name,
	int (*away)(
		struct th_store *store, const char *name, struct th_error *err),
	int (*find_users)(struct th_store *store, const char *name,
		struct th_strings *users, struct th_error *err))
{
	struct th_store *store = call->hull.context.store;
	struct th_strings users = {0};
	struct th_error err = {0}, ignored = {0}; /* a hint only */

	if (away(store, name, &err) == 0) {
		if (!call->quiet)
			printf("removed %s %s\n", kind, name);
		return EXIT_DONE;
	}
	if (err.code == TH_IN_USE) {
		find_users(store, name, &users, &ignored);
		remove_first(&users, &err);
	}
	return say_error(&err);
}

/* Says what stays: people look for their data there. */
static void say_volumes(struct invocation *call, const struct th_strings *names)
{
	if (!names->count || call->quiet)
		return;
	printf("its volumes stay:");
	for (size_t i = 0; i < names->count; i++)
		printf("%s %s", i ? "," : "", names->items[i]);
	printf("; to remove one: tidyhull remove volume:%s\n", names->items[0]);
}

/* Those that have names of their own, and are used by the container. */
static void add_volumes(struct invocation *call,
	const struct th_container_row *row, struct th_strings *names)
{
	struct th_volume_row *volumes = NULL;
	struct th_error ignored = {0}; /* a hint only */
	size_t count = 0;

	if (th_volume_list(
		    call->hull.context.store, NULL, &volumes, &count, &ignored))
		return;
	for (size_t i = 0; i < count; i++) {
		struct th_strings users = {0};
		bool uses = false, known = false;

		th_volume_users(call->hull.context.store, volumes[i].name,
			&users, &ignored);
		for (size_t k = 0; k < users.count; k++)
			uses |= strcmp(users.items[k], row->name) == 0;
		for (size_t k = 0; k < names->count; k++)
			known |= strcmp(names->items[k], volumes[i].name) == 0;
		if (uses && !known && !volumes[i].own[0])
			th_strings_add(names, volumes[i].name);
		th_strings_release(&users);
	}
	free(volumes);
}

/* All of it, the last ones first, and the network that came with it. */
static int remove_group(struct invocation *call, const char *name)
{
	bool force = option_given(call, "force");
	struct th_container_row *rows = NULL;
	struct th_strings volumes = {0};
	struct th_group group;
	struct th_error err = {0};
	size_t count = 0;
	int code = EXIT_DONE;

	if (th_group_rows(&call->hull.context, name, &rows, &count, &err) ||
		th_group_of(&call->hull.context, rows, count, &group, &err)) {
		free(rows);
		return say_error(&err);
	}
	for (size_t i = 0; !force && i < count; i++) {
		if (can_go(&rows[i]))
			continue;
		th_fail(&err, TH_IN_USE,
			"container \"%s\" of the group \"%s\" is %s",
			rows[i].name, name, th_state_word(rows[i].state));
		th_hint(&err,
			"stop it first (tidyhull stop group:%s), or use "
			"--force",
			name);
		code = say_error(&err);
		goto out;
	}
	for (size_t i = 0; i < count; i++)
		add_volumes(call, &rows[i], &volumes);
	if (force)
		code = stop_rows(call, &group, -1);
	for (size_t i = group.count; i > 0; i--) {
		int one;

		if (th_state_get(call->hull.context.store->db,
			    group.items[i - 1].before.id, &rows[0], &err) != 1)
			continue;
		one = remove_container(call, &rows[0]);
		code = code ? code : one;
	}
	if (th_group_tidy(&call->hull.context, name, &err) && !code)
		code = say_error(&err);
	say_volumes(call, &volumes);
out:
	th_strings_release(&volumes);
	th_group_release(&group);
	free(rows);
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
		struct th_object object;
		struct th_error err = {0};
		int one;

		if (th_object_find(&call->hull.context, call->objects[i],
			    TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_VOLUME |
				    TH_KIND_NETWORK | TH_KIND_GROUP,
			    &object, &err)) {
			one = say_error(&err);
		} else {
			one = object.kind == TH_KIND_GROUP
				? remove_group(call, object.group.name)
				: object.kind == TH_KIND_NETWORK
				? remove_named(call, "network",
					  object.network.name,
					  th_network_forget, th_network_users)
				: object.kind == TH_KIND_VOLUME
				? remove_named(call, "volume",
					  object.volume.name, th_volume_remove,
					  th_volume_users)
				: object.kind == TH_KIND_CONTAINER
				? remove_container(call, &object.container)
				: remove_image(call, &object);
			th_object_release(&object);
		}
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
