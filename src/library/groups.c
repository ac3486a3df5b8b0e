/* Groups: containers that belong together, brought up in their order. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "base/file.h"
#include "base/json.h"
#include "container/image_choice.h"
#include "container/new_network.h"
#include "group/group.h"
#include "library/library.h"
#include "store/machine.h"
#include "view/describe.h"

/* ---- as a file describes it ---- */

struct launch {
	th_hull *hull;
	const json_t *wish;
	const json_t *containers; /* of the wish */
	struct th_settings *settings; /* one for each of them */
	size_t count;
	struct th_group group;
	struct th_strings texts; /* that were made here */
	struct th_strings networks; /* that the file describes */
};

static const json_t *wished(const struct launch *launch, size_t at)
{
	return json_array_get(launch->containers, at);
}

static long long place(const json_t *doc, const char *key)
{
	return (long long)json_integer_value(json_object_get(doc, key));
}

static void add_problem(const struct launch *launch, const json_t *one,
	struct th_error *err, struct th_problems *problems)
{
	const char *file = library_text(launch->wish, "file");
	const char *name =
		library_text(json_object_get(one, "settings"), "name");
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg),
		"%.150s, line %lld, column %lld: %.60s: %.250s",
		file ? file : "", place(one, "line"), place(one, "column"),
		name ? name : "", reason);
	th_problems_add(problems, err);
}

static int describe_after(
	const json_t *list, char text[TH_AFTER_TEXT], struct th_error *err)
{
	const json_t *one;
	size_t used = 0, i;

	text[0] = '\0';
	json_array_foreach(list, i, one)
	{
		const char *member = library_text(one, "member");
		const char *is = library_text(one, "is");

		used += (size_t)snprintf(text + used, TH_AFTER_TEXT - used,
			"%s%s=%s", used ? " " : "", member ? member : "",
			is ? is : "");
		if (used >= TH_AFTER_TEXT)
			return th_fail(
				err, TH_USAGE, "it waits for too many others");
	}
	return 0;
}

/* The image that a recipe has made, once there is one. The text by which it is
 * seen whether the file has changed was taken before. */
static void take_built(struct th_settings *settings, const json_t *one)
{
	const json_t *built = json_object_get(one, "built");
	const char *digest = library_text(built, "digest");
	const char *name = library_text(built, "name");

	settings->image_later = library_text(one, "build") && !digest;
	if (!digest)
		return;
	settings->digest = digest;
	settings->image = name ? name : digest;
}

static int read_one(struct launch *launch, size_t at, struct th_error *err)
{
	const json_t *one = wished(launch, at);
	const char *member = library_text(one, "member");
	struct th_settings *settings = &launch->settings[at];
	struct th_group_item *item =
		&launch->group.items[launch->group.count++];

	item->settings = settings;
	snprintf(item->member.group, sizeof(item->member.group), "%s",
		launch->group.name);
	snprintf(item->member.member, sizeof(item->member.member), "%s",
		member ? member : "");
	if (library_settings(json_object_get(one, "settings"),
		    &launch->hull->caller, settings, err))
		return -1;
	settings->coming_networks = &launch->networks;
	settings->member = &item->member;
	th_group_digest(settings, item->member.settings);
	take_built(settings, one);
	return describe_after(
		json_object_get(one, "after"), item->member.after, err);
}

/* The list grows by those that go, and may move then. */
static void point_members(struct launch *launch)
{
	for (size_t i = 0; i < launch->group.count; i++) {
		struct th_group_item *item = &launch->group.items[i];

		if (item->settings)
			item->settings->member = &item->member;
	}
}

static int check_wish(const json_t *wish, struct th_error *err)
{
	const char *name = library_text(wish, "name");
	const json_t *network;
	size_t i;

	if (!name || !th_name_valid(name))
		return th_fail(err, TH_USAGE, "a group needs a valid name");
	json_array_foreach(json_object_get(wish, "networks"), i, network)
	{
		if (!library_text(network, "name"))
			return th_fail(err, TH_USAGE,
				"a network of the group has no name");
	}
	return 0;
}

static int read_launch(th_hull *hull, const json_t *wish, struct launch *launch,
	struct th_problems *problems, struct th_error *err)
{
	const char *name = library_text(wish, "name");
	const json_t *network;
	size_t i;

	memset(launch, 0, sizeof(*launch));
	if (check_wish(wish, err))
		return -1;
	launch->hull = hull;
	launch->wish = wish;
	launch->containers = json_object_get(wish, "containers");
	launch->count = json_array_size(launch->containers);
	launch->settings = calloc(launch->count + 1, sizeof(*launch->settings));
	launch->group.items =
		calloc(launch->count + 1, sizeof(*launch->group.items));
	if (!launch->settings || !launch->group.items)
		return th_fail_memory(err);
	snprintf(launch->group.name, sizeof(launch->group.name), "%s",
		name ? name : "");
	json_array_foreach(json_object_get(wish, "networks"), i, network)
	{
		const char *text = library_text(network, "name");

		if (text && th_strings_add(&launch->networks, text))
			return th_fail_memory(err);
	}
	for (i = 0; i < launch->count; i++) {
		struct th_error own = {0};

		if (read_one(launch, i, &own))
			add_problem(launch, wished(launch, i), &own, problems);
	}
	return 0;
}

static void launch_release(struct launch *launch)
{
	for (size_t i = 0; launch->settings && i < launch->count; i++)
		th_settings_release(&launch->settings[i]);
	free(launch->settings);
	th_group_release(&launch->group);
	th_strings_release(&launch->texts);
	th_strings_release(&launch->networks);
}

/* What an earlier look has found is forgotten. */
static int compare(struct launch *launch, struct th_problems *problems,
	struct th_error *err)
{
	struct th_group *group = &launch->group;
	int rc;

	for (size_t i = launch->count; i < group->count; i++)
		free(group->items[i].after);
	group->count = launch->count;
	rc = th_group_compare(&launch->hull->context, group, problems, err);
	point_members(launch);
	return rc;
}

static bool is_same_network(
	const json_t *wanted, const struct th_network_row *row)
{
	const json_t *subnet;
	size_t i;
	bool same = row->internal ==
			json_is_true(json_object_get(wanted, "internal")) &&
		row->loopback ==
			json_is_true(json_object_get(wanted, "host-loopback"));

	json_array_foreach(json_object_get(wanted, "subnets"), i, subnet)
	{
		const char *text = json_string_value(subnet);

		same &= text &&
			(strcmp(text, row->subnet4) == 0 ||
				strcmp(text, row->subnet6) == 0);
	}
	return same;
}

static void check_network(const struct launch *launch, const json_t *wanted,
	struct th_problems *problems)
{
	const char *name = library_text(wanted, "name");
	const char *file = library_text(launch->wish, "file");
	struct th_network_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0;
	bool same;

	if (th_network_list(
		    launch->hull->context.store, name, &rows, &count, &err)) {
		th_problems_add(problems, &err);
		return;
	}
	same = !count || is_same_network(wanted, &rows[0]);
	free(rows);
	if (same)
		return;
	th_fail(&err, TH_IN_USE,
		"%.150s, line %lld, column %lld: the network \"%s\" is there "
		"already, and is another one",
		file ? file : "", place(wanted, "line"),
		place(wanted, "column"), name);
	th_hint(&err,
		"tidyhull show network:%s; once nothing uses it: tidyhull "
		"remove network:%s",
		name, name);
	th_problems_add(problems, &err);
}

/* All that is wrong, before anything is done. */
static int look(struct launch *launch, struct th_problems *problems,
	struct th_error *err)
{
	const json_t *network;
	size_t i;

	if (problems->count)
		return 0;
	if (compare(launch, problems, err))
		return -1;
	if (problems->count)
		return 0;
	json_array_foreach(
		json_object_get(launch->wish, "networks"), i, network)
	{
		check_network(launch, network, problems);
	}
	th_group_check(&launch->hull->context, &launch->group, problems);
	return 0;
}

static const char *name_of(const struct th_group_item *item)
{
	return item->settings && item->settings->name ? item->settings->name
						      : item->before.name;
}

int th_group_look(
	th_hull *hull, const json_t *group, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_problems problems = {0};
	struct launch launch;
	json_t *list;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = read_launch(hull, group, &launch, &problems, error);
	if (rc == 0)
		rc = look(&launch, &problems, error);
	if (problems.count)
		rc = library_problems(&problems, doc, error);
	if (rc == 0) {
		list = json_array();
		for (size_t i = 0; i < launch.group.count; i++) {
			const struct th_group_item *item =
				&launch.group.items[i];

			json_array_append_new(list,
				json_pack("{s:s s:s s:s}", "container",
					name_of(item), "act",
					th_group_act_word(item->act), "why",
					item->why));
		}
		rc = library_give_list("acts", list, doc, error);
	}
	launch_release(&launch);
	return rc;
}

/* ---- what is needed first ---- */

static int pull_images(struct launch *launch, struct th_error *err)
{
	const struct th_context *context = &launch->hull->context;

	for (size_t i = 0; i < launch->count; i++) {
		struct th_group_item *item = &launch->group.items[i];
		struct th_image_choice choice;
		int rc;

		if (item->settings->fetch != TH_FETCH_ALWAYS &&
			(item->act == TH_GROUP_LEAVE ||
				item->act == TH_GROUP_START))
			continue;
		rc = th_image_choose(context, item->settings, &choice, err);
		if (rc == 0)
			rc = th_image_obtain(
				context, item->settings, &choice, err);
		if (rc == 0 &&
			th_strings_add(&launch->texts, choice.image.digest))
			rc = th_fail_memory(err);
		th_image_choice_release(&choice);
		if (rc)
			return -1;
		item->settings->digest =
			launch->texts.items[launch->texts.count - 1];
	}
	return 0;
}

static int make_network(
	struct th_store *store, const json_t *wanted, struct th_error *err)
{
	struct th_new_network wish = {.name = library_text(wanted, "name"),
		.internal = json_is_true(json_object_get(wanted, "internal")),
		.loopback =
			json_is_true(json_object_get(wanted, "host-loopback"))};
	struct th_network_row row;
	int rc = library_texts(json_object_get(wanted, "subnets"), "subnets",
		&wish.subnets, err);

	if (rc == 0)
		rc = th_network_new(store, &wish, &row, err);
	th_strings_release(&wish.subnets);
	return rc < 0 ? -1 : 0;
}

static int make_others(struct launch *launch, struct th_error *err)
{
	struct th_store *store = launch->hull->context.store;
	struct th_strings volumes = {0};
	const json_t *network;
	size_t i;
	int rc = library_texts(json_object_get(launch->wish, "volumes"),
		"volumes", &volumes, err);

	for (i = 0; rc == 0 && i < volumes.count; i++)
		rc = th_volume_make(store, volumes.items[i], err) < 0 ? -1 : 0;
	json_array_foreach(
		json_object_get(launch->wish, "networks"), i, network)
	{
		if (rc == 0)
			rc = make_network(store, network, err);
	}
	th_strings_release(&volumes);
	return rc;
}

/* One command at a time changes a group; the next one sees what came of it. */
static int hold_group(struct launch *launch, const struct th_group_how *how,
	int *lock, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = 50000000};
	const struct th_context *context = &launch->hull->context;
	bool told = false;
	int rc;

	while ((rc = th_group_hold(context, launch->group.name, lock, err)) ==
		0) {
		if (!told && how->waits)
			how->waits(how->owner);
		told = true;
		if (th_context_cancelled(context))
			return th_fail(err, TH_FAILED, "interrupted");
		nanosleep(&step, NULL);
	}
	return rc < 0 ? -1 : 0;
}

/* ---- doing it ---- */

struct doing {
	th_hull *hull;
	const struct th_group_how *how;
};

static json_t *view_step(th_hull *hull, const struct th_group_item *item)
{
	bool failed = item->step == TH_GROUP_FAILED;
	json_t *now = NULL;

	if (item->act != TH_GROUP_REMOVE && item->row.id[0])
		now = library_now(hull, item->row.id);
	return json_pack("{s:s s:s s:s s:s s:b s:o? s:o? s:o s:b s:b}",
		"container", name_of(item), "act", th_group_act_word(item->act),
		"why", item->why, "step", failed ? "failed" : "done", "ready",
		(int)item->ready, "now", now, "error",
		failed ? library_error(&item->err) : NULL, "last-words",
		th_view_said(item->words), "went-back", (int)item->went_back,
		"ran", (int)item->was_up);
}

static void tell(void *owner, const struct th_group *group,
	const struct th_group_item *item)
{
	const struct doing *doing = owner;
	json_t *step;

	(void)group;
	if (!doing->how->tell ||
		(item->step != TH_GROUP_DONE && item->step != TH_GROUP_FAILED))
		return;
	step = view_step(doing->hull, item);
	doing->how->tell(doing->how->owner, step);
	json_decref(step);
}

/* What came of it. */
static json_t *view_outcome(
	th_hull *hull, const struct th_group *group, bool undone)
{
	json_t *list = json_array(), *left = json_array();

	for (size_t i = 0; i < group->count; i++) {
		const struct th_group_item *item = &group->items[i];
		json_t *now = item->act != TH_GROUP_REMOVE && item->row.id[0]
			? library_now(hull, item->row.id)
			: NULL;

		if (item->step == TH_GROUP_LEFT_OUT)
			json_array_append_new(left, json_string(name_of(item)));
		if (!now)
			continue;
		json_object_set_new(
			now, "did", json_boolean(item->step == TH_GROUP_DONE));
		json_array_append_new(list, now);
	}
	return json_pack("{s:s s:s s:o s:o s:b}", "kind", "group", "name",
		group->name, "containers", list, "left-out", left, "undone",
		(int)undone);
}

static void first_error(const struct th_group *group, struct th_error *err)
{
	for (size_t i = 0; i < group->count && !err->code; i++) {
		if (group->items[i].step == TH_GROUP_FAILED)
			*err = group->items[i].err;
	}
	th_fail(err, TH_FAILED, "not all of it could be done");
}

static int do_group(th_hull *hull, struct th_group *group,
	const struct th_group_how *how, json_t **doc, struct th_error *err)
{
	struct doing doing = {hull, how};
	const struct th_group_options options = {.ready_ms = how->ready_ms,
		.grace_ms = how->grace_ms,
		.undo = how->undo,
		.tell = tell,
		.owner = &doing};
	bool undone = false;
	int rc = th_group_do(&hull->context, group, &options, &undone);

	if (rc)
		first_error(group, err);
	if (doc)
		*doc = view_outcome(hull, group, undone);
	return rc;
}

static void leave_gone(struct th_group *group)
{
	while (group->count &&
		group->items[group->count - 1].act == TH_GROUP_REMOVE)
		free(group->items[--group->count].after);
}

static int bring_up(struct launch *launch, const struct th_group_how *how,
	struct th_problems *problems, json_t **doc, struct th_error *err)
{
	int lock = -1, rc;

	if (pull_images(launch, err) || make_others(launch, err) ||
		hold_group(launch, how, &lock, err))
		return -1;
	/* What was built or pulled may be another image than before, and
	 * others may have been at work. */
	rc = compare(launch, problems, err);
	if (how->leave_gone)
		leave_gone(&launch->group);
	if (rc == 0 && !problems->count)
		rc = do_group(launch->hull, &launch->group, how, doc, err);
	th_group_let_go(&launch->hull->context, launch->group.name, &lock);
	return rc;
}

int th_group_launch(th_hull *hull, const json_t *group,
	const struct th_group_how *how, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_problems problems = {0};
	struct launch launch;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = read_launch(hull, group, &launch, &problems, error);
	if (rc == 0)
		rc = look(&launch, &problems, error);
	if (rc == 0 && !problems.count)
		rc = bring_up(&launch, how, &problems, doc, error);
	if (problems.count)
		rc = library_problems(&problems, doc, error);
	launch_release(&launch);
	return rc;
}

int th_group_begin(th_hull *hull, const json_t *names,
	const struct th_group_how *how, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_group group;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (library_ordered(hull, names, &group, error))
		return -1;
	rc = do_group(hull, &group, how, doc, error);
	th_group_release(&group);
	return rc;
}
