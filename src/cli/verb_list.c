/* list: what there is. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "view/describe.h"
#include "cli/list_images.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "group/group.h"
#include "oci/reference.h"
#include "store/machine.h"

/* The cells of one container; depth 1 below its group. */
static void add_row(struct invocation *call, struct table *table,
	const struct th_container_row *row, int depth)
{
	char state[96], ago[48], reach[512];
	int64_t since = row->state == TH_STATE_CREATED ? row->created_us
		: th_container_is_up(row)	       ? row->started_us
						       : row->ended_us;

	state_text(row, state);
	ago_text(since, ago);
	th_view_reach(&call->hull.context, row->id, reach, sizeof(reach));
	if (depth < 0)
		table_row(table);
	else
		table_branch(table, depth);
	table_cell(table, "bold", "%s", row->name);
	table_cell(table, state_colour(row), "%s", state);
	table_cell(table, NULL, "%s", ago);
	table_cell(table, NULL, "%s", reach);
	table_cell(table, NULL, "%s", row->image_name);
	table_cell(table, "darkgray", "%s", row->id);
}

static void add_group(struct table *table, const struct th_group_row *group)
{
	table_branch(table, 0);
	table_cell(table, "bold", "group:%s", group->name);
	table_cell(table, group->running == group->containers ? "green" : NULL,
		"%lld of %lld running", (long long)group->running,
		(long long)group->containers);
}

static int list_json(struct invocation *call,
	const struct th_container_row *rows, size_t count, bool all)
{
	json_t *list = json_array();
	size_t hidden = 0;

	for (size_t i = 0; i < count; i++) {
		if (all || th_container_is_up(&rows[i]))
			json_array_append_new(list,
				th_view_container(
					&call->hull.context, &rows[i]));
		else
			hidden++;
	}
	return print_json(json_pack("{s:o s:I}", "containers", list,
		"not-shown", (json_int_t)hidden));
}

static bool is_member(struct invocation *call, const char *id)
{
	struct th_member member;
	struct th_error ignored = {0}; /* then it stands alone */

	return th_member_get(call->hull.context.store->db, id, &member,
		       &ignored) == 1;
}

/* One group with those of it that are shown; how many those are. */
static size_t add_tree(struct invocation *call, struct table *table,
	const struct th_group_row *one, bool all)
{
	struct th_container_row *rows = NULL;
	struct th_group group = {0};
	struct th_error ignored = {0}; /* then they stand alone */
	size_t count = 0, shown = 0;

	if (th_group_rows(&call->hull.context, one->name, &rows, &count,
		    &ignored) == 0)
		th_group_of(&call->hull.context, rows, count, &group, &ignored);
	for (size_t i = 0; i < group.count; i++) {
		if (!all && !th_container_is_up(&group.items[i].before))
			continue;
		if (!shown++)
			add_group(table, one);
		add_row(call, table, &group.items[i].before, 1);
	}
	th_group_release(&group);
	free(rows);
	return shown;
}

/* Groups first, each with its containers below it; then the others. */
static size_t add_trees(struct invocation *call, struct table *table,
	const struct th_container_row *rows, size_t count, bool all)
{
	struct th_group_row *groups = NULL;
	struct th_error ignored = {0}; /* then they stand alone */
	size_t group_count = 0, shown = 0;

	th_group_list(call->hull.context.store->db, NULL, &groups, &group_count,
		&ignored);
	for (size_t i = 0; i < group_count; i++)
		shown += add_tree(call, table, &groups[i], all);
	for (size_t i = 0; i < count; i++) {
		if ((!all && !th_container_is_up(&rows[i])) ||
			(group_count && is_member(call, rows[i].id)))
			continue;
		add_row(call, table, &rows[i], group_count ? 0 : -1);
		shown++;
	}
	free(groups);
	return shown;
}

static void list_table(struct invocation *call,
	const struct th_container_row *rows, size_t count, bool all)
{
	struct table *table = table_new();
	size_t shown;

	table_column(table, "container", false);
	table_column(table, "state", false);
	table_column(table, "since", false);
	table_column(table, "ports", false);
	table_column(table, "image", false);
	table_column(table, "id", false);
	shown = add_trees(call, table, rows, count, all);
	if (shown) {
		table_print(table);
	} else {
		table_drop(table);
		puts(count ? "no containers are running"
			   : "there are no containers");
	}
	if (count > shown)
		printf("%zu %s not running: tidyhull list --all\n",
			count - shown,
			count - shown == 1 ? "other is" : "others are");
}

static int list_containers(struct invocation *call)
{
	struct th_container_row *rows = NULL;
	bool all = option_given(call, "all");
	struct th_error err = {0};
	size_t count = 0;

	if (th_container_rows(&call->hull.context, &rows, &count, &err))
		return say_error(&err);
	if (call->json) {
		list_json(call, rows, count, all);
	} else if (call->quiet) {
		for (size_t i = 0; i < count; i++) {
			if (all || th_container_is_up(&rows[i]))
				printf("%s\n", rows[i].id);
		}
	} else {
		list_table(call, rows, count, all);
	}
	free(rows);
	return EXIT_DONE;
}

static void add_session(struct table *table, const struct th_session_row *row)
{
	char ago[48];

	ago_text(row->started_us, ago);
	table_row(table);
	table_cell(table, "bold", "%s", row->id);
	table_cell(table, NULL, "%s", row->container_name);
	if (row->ended_us)
		table_cell(table, row->code ? "red" : NULL, "ended: %d",
			row->code);
	else
		table_cell(table, "green", "running%s",
			row->background ? ", background" : "");
	table_cell(table, NULL, "%s", ago);
	table_cell(table, NULL, "%s", row->user);
	table_cell(table, NULL, "%s", row->actor);
	table_cell(table, NULL, "%.60s", row->command);
}

static int list_sessions(struct invocation *call)
{
	struct th_session_row *rows = NULL;
	bool all = option_given(call, "all");
	struct th_error err = {0};
	size_t count = 0, shown = 0;
	json_t *list = json_array();
	struct table *table;

	/* Those of a container whose keeper has gone have ended with it. */
	if (th_container_settle(&call->hull.context, &err) ||
		th_state_sessions(call->hull.context.store->db, NULL, NULL,
			&rows, &count, &err)) {
		json_decref(list);
		return say_error(&err);
	}
	table = table_new();
	table_column(table, "session", false);
	table_column(table, "container", false);
	table_column(table, "state", false);
	table_column(table, "started", false);
	table_column(table, "user", false);
	table_column(table, "by", false);
	table_column(table, "command", false);
	for (size_t i = 0; i < count; i++) {
		if (!all && rows[i].ended_us)
			continue;
		shown++;
		if (call->json)
			json_array_append_new(list, th_view_session(&rows[i]));
		else if (call->quiet)
			printf("%s\n", rows[i].id);
		else
			add_session(table, &rows[i]);
	}
	free(rows);
	if (call->json)
		print_json(json_pack("{s:O s:I}", "sessions", list, "not-shown",
			(json_int_t)(count - shown)));
	else if (!call->quiet && shown)
		table_print(table);
	if (call->json || call->quiet || !shown)
		table_drop(table);
	if (!call->json && !call->quiet && !shown)
		puts("no sessions are running");
	if (!call->json && !call->quiet && count > shown)
		printf("%zu %s ended: tidyhull list sessions --all\n",
			count - shown,
			count - shown == 1 ? "other has" : "others have");
	json_decref(list);
	return EXIT_DONE;
}

/* The names of those that have it, as one cell; to be released. */
static void join_containers(const json_t *doc, struct th_buf *text)
{
	json_t *name;
	size_t i;

	th_buf_init(text, 200);
	json_array_foreach(json_object_get(doc, "containers"), i, name)
	{
		th_buf_addf(
			text, "%s%s", i ? ", " : "", json_string_value(name));
	}
}

static void add_volume(
	struct invocation *call, struct table *table, const char *name)
{
	struct th_volume_row *row = NULL;
	struct th_error ignored = {0}; /* it has just gone */
	char size[SIZE_TEXT], ago[48], used[48];
	struct th_buf users;
	size_t count = 0;
	json_t *doc;

	if (th_volume_list(
		    call->hull.context.store, name, &row, &count, &ignored) ||
		!count) {
		free(row);
		return;
	}
	doc = th_view_volume(&call->hull.context, &row[0]);
	join_containers(doc, &users);
	size_text((uint64_t)json_integer_value(json_object_get(doc, "size")),
		size);
	ago_text(row[0].created_us, ago);
	ago_text(row[0].used_us, used);
	table_row(table);
	table_cell(table, "bold", "%s", row[0].name);
	table_cell(table, NULL, "%s", size);
	table_cell(table, NULL, "%s", users.data);
	table_cell(table, NULL, "%s", used[0] ? used : "never");
	table_cell(table, NULL, "%s", ago);
	table_cell(table, "darkgray", "%s",
		row[0].own[0] ? "removed with its container" : "");
	th_buf_release(&users);
	json_decref(doc);
	free(row);
}

static int list_volumes(struct invocation *call)
{
	struct th_volume_row *rows = NULL;
	struct th_error err = {0};
	json_t *list = json_array();
	struct table *table;
	size_t count = 0;

	if (th_volume_list(
		    call->hull.context.store, NULL, &rows, &count, &err)) {
		json_decref(list);
		return say_error(&err);
	}
	table = table_new();
	table_column(table, "volume", false);
	table_column(table, "size", true);
	table_column(table, "mounted by", false);
	table_column(table, "last used", false);
	table_column(table, "created", false);
	table_column(table, "", false);
	for (size_t i = 0; i < count; i++) {
		if (call->json)
			json_array_append_new(list,
				th_view_volume(&call->hull.context, &rows[i]));
		else if (call->quiet)
			printf("%s\n", rows[i].name);
		else
			add_volume(call, table, rows[i].name);
	}
	free(rows);
	if (call->json)
		print_json(json_pack("{s:O}", "volumes", list));
	if (!call->json && !call->quiet && count)
		table_print(table);
	else
		table_drop(table);
	if (!call->json && !call->quiet && !count)
		puts("there are no volumes; one is created on first use: "
		     "--mount /data=volume:NAME");
	json_decref(list);
	return EXIT_DONE;
}

static void add_network(struct table *table, const json_t *doc,
	const struct th_network_row *row)
{
	struct th_buf users;
	char ago[48];

	join_containers(doc, &users);
	ago_text(row->created_us, ago);
	table_row(table);
	table_cell(table, "bold", "%s", row->name);
	table_cell(table, row->running ? "green" : NULL, "%s",
		row->running ? "up" : "down");
	table_cell(table, NULL, "%s", row->subnet4[0] ? row->subnet4 : "-");
	table_cell(table, NULL, "%s", row->subnet6[0] ? row->subnet6 : "-");
	table_cell(table, NULL, "%s", row->internal ? "no" : "yes");
	table_cell(table, NULL, "%s", users.data);
	table_cell(table, NULL, "%s", ago);
	th_buf_release(&users);
}

static int list_networks(struct invocation *call)
{
	struct th_network_row *rows = NULL;
	struct th_error err = {0};
	json_t *list = json_array();
	struct table *table;
	size_t count = 0;

	if (th_network_list(
		    call->hull.context.store, NULL, &rows, &count, &err)) {
		json_decref(list);
		return say_error(&err);
	}
	table = table_new();
	table_column(table, "network", false);
	table_column(table, "now", false);
	table_column(table, "subnet", false);
	table_column(table, "IPv6 subnet", false);
	table_column(table, "outside", false);
	table_column(table, "containers", false);
	table_column(table, "created", false);
	for (size_t i = 0; i < count; i++) {
		json_t *doc = th_view_network(&call->hull.context, &rows[i]);

		if (call->quiet)
			printf("%s\n", rows[i].name);
		else if (!call->json)
			add_network(table, doc, &rows[i]);
		json_array_append_new(list, doc);
	}
	free(rows);
	if (call->json)
		print_json(json_pack("{s:O}", "networks", list));
	if (!call->json && !call->quiet && count)
		table_print(table);
	else
		table_drop(table);
	if (!call->json && !call->quiet && !count)
		puts("there are no networks; one is created on first use: "
		     "--network NAME");
	json_decref(list);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	const char *kind = call->object_count ? call->objects[0] : "containers";
	struct th_error err = {0};

	if (strcmp(kind, "containers") == 0)
		return list_containers(call);
	if (strcmp(kind, "images") == 0)
		return list_images(call);
	if (strcmp(kind, "sessions") == 0)
		return list_sessions(call);
	if (strcmp(kind, "volumes") == 0)
		return list_volumes(call);
	if (strcmp(kind, "networks") == 0)
		return list_networks(call);
	th_fail(&err, TH_USAGE, "unknown kind of object \"%.50s\"", kind);
	th_hint(&err, "use containers, images, sessions, volumes or networks");
	return say_error(&err);
}

static const struct option_spec options[] = {
	{"all", NULL, "include those that are not running"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"KIND is containers (the default), images, sessions, volumes or",
	"networks.", NULL};

static const char *const examples[] = {
	"tidyhull list", "tidyhull list --all", "tidyhull list images", NULL};

const struct verb verb_list = {.name = "list",
	.group = "look",
	.summary = "list containers, images, volumes, networks or sessions",
	.usage = "[KIND]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
