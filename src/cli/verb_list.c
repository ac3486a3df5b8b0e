/* list: what there is. */
#include <stdio.h>
#include <string.h>

#include "base/distance.h"
#include "cli/doc.h"
#include "cli/elsewhere.h"
#include "cli/kinds.h"
#include "cli/image_names.h"
#include "cli/list_images.h"
#include "cli/list_tree.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

/* ---- containers ---- */

/* The cells of one container; depth 1 below its group, -1 without a tree. */
static void add_container(struct image_names *names, struct table *table,
	const json_t *container, int depth)
{
	const char *since = is_state(container, "created") ? "created"
		: is_up(container)			   ? "started"
							   : "ended";
	char state[96], ago[48], reach[512], image[IMAGE_NAME_TEXT];

	state_text(container, state);
	ago_text(doc_time(container, since), ago);
	reach_text(container, reach, sizeof(reach));
	image_name(names, container, image);
	if (depth < 0)
		table_row(table);
	else
		table_branch(table, depth);
	table_cell(table, "bold", "%s", doc_text(container, "name"));
	table_cell(table, state_colour(container), "%s", state);
	table_cell(table, NULL, "%s", ago);
	table_cell(table, NULL, "%s", reach);
	table_cell(table, NULL, "%s", image);
	table_cell(table, "darkgray", "%s", doc_text(container, "id"));
}

/* One group with those of it that are shown; how many those are. */
static size_t add_group(struct image_names *names, struct table *table,
	const json_t *group, bool all)
{
	const json_t *containers = doc_part(group, "containers"), *one;
	size_t running = 0, shown = 0, i;

	json_array_foreach(containers, i, one)
	{
		running += is_state(one, "running") || is_state(one, "paused");
	}
	json_array_foreach(containers, i, one)
	{
		if (!all && !is_up(one))
			continue;
		if (!shown++) {
			table_branch(table, 0);
			table_cell(table, "bold", "group:%s",
				doc_text(group, "name"));
			table_cell(table,
				running == json_array_size(containers) ? "green"
								       : NULL,
				"%zu of %zu running", running,
				json_array_size(containers));
		}
		add_container(names, table, one, 1);
	}
	return shown;
}

struct filling {
	struct image_names names;
	struct table *table;
	size_t shown;
	bool grouped; /* some stand below their group */
};

static void fill(void *owner, const json_t *container)
{
	struct filling *filling = owner;

	if (filling->grouped && *doc_text(container, "group"))
		return;
	add_container(&filling->names, filling->table, container,
		filling->grouped ? 0 : -1);
	filling->shown++;
}

static bool has_groups(const json_t *containers)
{
	const json_t *one;
	size_t i;

	json_array_foreach(containers, i, one)
	{
		if (*doc_text(one, "group"))
			return true;
	}
	return false;
}

static int add_groups(struct invocation *call, struct filling *filling,
	bool all, struct th_error *err)
{
	json_t *groups = NULL, *one;
	size_t i;

	if (th_list(call->hull, TH_KIND_GROUP, true, &groups, err))
		return -1;
	json_array_foreach(doc_part(groups, "groups"), i, one)
	{
		filling->shown +=
			add_group(&filling->names, filling->table, one, all);
	}
	filling->grouped = filling->shown > 0;
	json_decref(groups);
	return 0;
}

/* Of those that run: groups are only asked for where one of them has one, as
 * all others may be kept by the thousand. */
static int add_running(struct invocation *call, struct filling *filling,
	size_t *not_shown, struct th_error *err)
{
	json_t *doc = NULL, *one;
	size_t i;
	int rc;

	if (th_list(call->hull, TH_KIND_CONTAINER, false, &doc, err))
		return -1;
	*not_shown = (size_t)doc_number(doc, "not-shown");
	rc = has_groups(doc_part(doc, "containers"))
		? add_groups(call, filling, false, err)
		: 0;
	json_array_foreach(doc_part(doc, "containers"), i, one)
	{
		if (rc == 0)
			fill(filling, one);
	}
	json_decref(doc);
	return rc;
}

/* Groups first, each with its containers below it; then the others. */
static int add_all(struct invocation *call, struct filling *filling,
	size_t *not_shown, struct th_error *err)
{
	if (!option_given(call, "all"))
		return add_running(call, filling, not_shown, err);
	return add_groups(call, filling, true, err)
		? -1
		: th_containers_each(
			  call->hull, true, fill, filling, not_shown, err);
}

static int list_containers(struct invocation *call)
{
	struct filling filling = {
		.names = {.call = call}, .table = table_new()};
	struct table *table = filling.table;
	struct th_error err = {0};
	size_t hidden = 0;
	int rc;

	table_column(table, "container", 0);
	table_column(table, "state", 0);
	table_column(table, "since", TABLE_LESS);
	table_column(table, "ports", TABLE_BREAK);
	table_column(table, "image", TABLE_BREAK | TABLE_LATER);
	table_column(table, "id", TABLE_HASH);
	rc = add_all(call, &filling, &hidden, &err);
	image_names_release(&filling.names);
	if (rc == 0 && filling.shown) {
		table_print(table);
	} else {
		table_drop(table);
		if (rc == 0)
			puts(hidden ? "no containers are running"
				    : "there are no containers; one begins "
				      "with: tidyhull launch IMAGE");
	}
	if (rc == 0 && hidden)
		table_note("%zu %s not running: tidyhull list --all\n", hidden,
			hidden == 1 ? "other is" : "others are");
	return rc ? say_error(&err) : EXIT_DONE;
}

static void print_id(void *owner, const json_t *container)
{
	(void)owner;
	puts(doc_text(container, "id"));
}

static int print_ids(struct invocation *call)
{
	struct th_error err = {0};
	size_t hidden;

	return th_containers_each(call->hull, option_given(call, "all"),
		       print_id, NULL, &hidden, &err)
		? say_error(&err)
		: EXIT_DONE;
}

/* ---- sessions ---- */

static void add_session(struct table *table, const json_t *session)
{
	const json_t *code = json_object_get(session, "exit-code");
	char ago[48];

	ago_text(doc_time(session, "started"), ago);
	table_row(table);
	table_cell(table, "bold", "%s", doc_text(session, "id"));
	table_cell(table, NULL, "%s", doc_text(session, "container-name"));
	if (is_state(session, "ended"))
		table_cell(table, json_integer_value(code) ? "red" : NULL,
			"ended: %d", (int)json_integer_value(code));
	else
		table_cell(table, "green", "running%s",
			doc_flag(session, "background") ? ", background" : "");
	table_cell(table, NULL, "%s", ago);
	table_cell(table, NULL, "%s", doc_text(session, "user"));
	table_cell(table, NULL, "%s", doc_text(session, "by"));
	table_cell(table, NULL, "%s", doc_text(session, "command"));
}

static void print_sessions(struct invocation *call, const json_t *doc)
{
	size_t hidden = (size_t)doc_number(doc, "not-shown"), i;
	struct table *table;
	const json_t *one;

	(void)call;
	if (!doc_count(doc, "sessions")) {
		puts("no sessions are running; one begins with: "
		     "tidyhull exec CONTAINER -- COMMAND");
	} else {
		table = table_new();
		table_column(table, "session", 0);
		table_column(table, "container", 0);
		table_column(table, "state", 0);
		table_column(table, "started", TABLE_LESS);
		table_column(table, "user", 0);
		table_column(table, "by", TABLE_LESS);
		table_column(table, "command", TABLE_BREAK);
		json_array_foreach(doc_part(doc, "sessions"), i, one)
		{
			add_session(table, one);
		}
		table_print(table);
	}
	if (hidden)
		table_note("%zu %s ended: tidyhull list sessions --all\n",
			hidden, hidden == 1 ? "other has" : "others have");
}

/* ---- volumes and networks ---- */

static void add_volume(struct table *table, const json_t *volume)
{
	char size[SIZE_TEXT], ago[48], used[48];
	struct th_buf users;

	doc_join(volume, "containers", ", ", &users);
	size_text((uint64_t)doc_number(volume, "size"), size);
	ago_text(doc_time(volume, "created"), ago);
	ago_text(doc_time(volume, "used"), used);
	table_row(table);
	table_cell(table, "bold", "%s", doc_text(volume, "name"));
	table_cell(table, NULL, "%s", size);
	table_cell(table, NULL, "%s", users.data);
	table_cell(table, NULL, "%s", used[0] ? used : "never");
	table_cell(table, NULL, "%s", ago);
	table_cell(table, "darkgray", "%s",
		doc_flag(volume, "named") ? "" : "removed with its container");
	th_buf_release(&users);
}

static void print_volumes(struct invocation *call, const json_t *doc)
{
	struct table *table;
	const json_t *one;
	size_t i;

	(void)call;
	if (!doc_count(doc, "volumes")) {
		puts("there are no volumes; one is created on first use: "
		     "--mount /data=volume:NAME");
		return;
	}
	table = table_new();
	table_column(table, "volume", 0);
	table_column(table, "size", TABLE_RIGHT);
	table_column(table, "mounted by", TABLE_BREAK);
	table_column(table, "last used", 0);
	table_column(table, "created", TABLE_LESS);
	table_column(table, "note", TABLE_LESS);
	json_array_foreach(doc_part(doc, "volumes"), i, one)
	{
		add_volume(table, one);
	}
	table_print(table);
}

static void add_network(struct table *table, const json_t *network)
{
	const char *subnet4 = doc_text(network, "subnet");
	const char *subnet6 = doc_text(network, "subnet6");
	bool up = doc_flag(network, "up");
	struct th_buf users;
	char ago[48];

	doc_join(network, "containers", ", ", &users);
	ago_text(doc_time(network, "created"), ago);
	table_row(table);
	table_cell(table, "bold", "%s", doc_text(network, "name"));
	table_cell(table, up ? "green" : NULL, "%s", up ? "up" : "down");
	table_cell(table, NULL, "%s", *subnet4 ? subnet4 : "-");
	table_cell(table, NULL, "%s", *subnet6 ? subnet6 : "-");
	table_cell(
		table, NULL, "%s", doc_flag(network, "outside") ? "yes" : "no");
	table_cell(table, NULL, "%s", users.data);
	table_cell(table, NULL, "%s", ago);
	th_buf_release(&users);
}

static void print_networks(struct invocation *call, const json_t *doc)
{
	struct table *table;
	const json_t *one;
	size_t i;

	(void)call;
	if (!doc_count(doc, "networks")) {
		puts("there are no networks; one is created on first use: "
		     "--network NAME");
		return;
	}
	table = table_new();
	table_column(table, "network", 0);
	table_column(table, "now", 0);
	table_column(table, "subnet", 0);
	table_column(table, "IPv6 subnet", TABLE_HASH);
	table_column(table, "outside", 0);
	table_column(table, "containers", TABLE_BREAK);
	table_column(table, "created", TABLE_LESS);
	json_array_foreach(doc_part(doc, "networks"), i, one)
	{
		add_network(table, one);
	}
	table_print(table);
}

/* ---- all kinds ---- */

static const struct listing {
	const char *name;
	enum th_kind kind;
	const char *key; /* of the member that scripts know it by */
	void (*print)(struct invocation *call, const json_t *doc);
} listings[] = {{"containers", TH_KIND_CONTAINER, "id", NULL},
	{"images", TH_KIND_IMAGE, "digest", print_images},
	{"sessions", TH_KIND_SESSION, "id", print_sessions},
	{"volumes", TH_KIND_VOLUME, "name", print_volumes},
	{"networks", TH_KIND_NETWORK, "name", print_networks}};

/* Takes the document over. */
static int end_tree(
	struct invocation *call, const struct listing *listing, json_t *doc)
{
	struct th_error err = {0};

	if (listing->kind != TH_KIND_CONTAINER)
		th_fail(&err, TH_USAGE,
			"--tree draws containers by their networks, not %s",
			listing->name);
	else if (!doc_count(doc, "containers"))
		list_containers(call);
	else
		list_tree(call, doc_part(doc, "containers"), &err);
	json_decref(doc);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int list(struct invocation *call, const struct listing *listing)
{
	struct th_error err = {0};
	json_t *doc = NULL;

	/* There may be very many of them. */
	if (listing->kind == TH_KIND_CONTAINER && !call->json &&
		(call->quiet || !option_given(call, "tree")))
		return call->quiet ? print_ids(call) : list_containers(call);
	if (th_list(call->hull, listing->kind, option_given(call, "all"), &doc,
		    &err))
		return say_error(&err);
	if (option_given(call, "tree") && !call->json && !call->quiet)
		return end_tree(call, listing, doc);
	if (call->json)
		return print_json(doc);
	if (call->quiet)
		print_each(doc_part(doc, listing->name), listing->key);
	else
		listing->print(call, doc);
	json_decref(doc);
	return EXIT_DONE;
}

static bool is_state_word(const char *word)
{
	static const char *const words[] = {
		"created", "running", "paused", "stopped", "ended", "all"};

	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		if (strcmp(word, words[i]) == 0)
			return true;
	}
	return false;
}

static int run(struct invocation *call)
{
	const char *kind = call->object_count ? call->objects[0] : "containers";
	const struct verb *verb;
	struct th_error err = {0}, none = {0};

	for (size_t i = 0; i < sizeof(listings) / sizeof(*listings); i++) {
		if (strcmp(kind, listings[i].name) == 0)
			return list(call, &listings[i]);
	}
	th_fail(&err, TH_USAGE, "unknown kind of object \"%.50s\"", kind);
	for (size_t i = 0; i < sizeof(listings) / sizeof(*listings); i++) {
		if (th_distance(kind, listings[i].name) < 3)
			th_hint(&err, "it is: tidyhull list %s",
				listings[i].name);
	}
	if (have_word("group groups", kind, strlen(kind)))
		th_hint(&err, "it is: tidyhull list --tree");
	if (have_word("tag tags", kind, strlen(kind)))
		th_hint(&err, "it is: tidyhull list images");
	if (strchr(kind, ',') && kind_word(kind, strcspn(kind, ",")))
		th_hint(&err, "one kind at a time: tidyhull list %ss",
			kind_word(kind, strcspn(kind, ",")));
	if (option_spec(&verb_list, kind, strlen(kind)))
		th_hint(&err, "options begin with --: tidyhull list --%s",
			option_spec(&verb_list, kind, strlen(kind))->name);
	if (is_state_word(kind))
		th_hint(&err,
			"tidyhull list shows those that run, tidyhull list "
			"--all the others too, with their states");
	/* A name stands there: a look at that is another verb's. */
	if (th_object(call->hull, kind,
		    TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_VOLUME |
			    TH_KIND_NETWORK | TH_KIND_SESSION,
		    TH_BRIEF, NULL, &none) == 0)
		th_hint(&err, "it is: tidyhull show %s", kind);
	if (option_value(call, "columns"))
		th_hint(&err, "columns are one word: --columns %.100s,%.50s",
			option_value(call, "columns"), kind);
	if (have_word("state since image id status", kind, strlen(kind)))
		th_hint(&err,
			"a column is an option's: tidyhull list --sort %s",
			strcmp(kind, "status") == 0 ? "state" : kind);
	verb = verb_called(kind);
	if (verb && verb != &verb_list)
		th_hint(&err, "it is: tidyhull %s", verb->name);
	th_hint(&err, "use containers, images, sessions, volumes or networks");
	return say_error(&err);
}

static const struct option_spec options[] = {
	{"all", NULL, "include those that are not running"},
	{"tree", NULL, "containers below their networks and groups"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"KIND is containers (the default), images, sessions, volumes or",
	"networks. The spaces in the names of columns are dashes: on-disk. A",
	"terminal that is too narrow gets fewer columns; --columns shows any.",
	NULL};

static const char *const examples[] = {"tidyhull list", "tidyhull list --all",
	"tidyhull list images --sort -on-disk", "tidyhull list --all --tree",
	"tidyhull list --columns container,state --watch", NULL};

const struct verb verb_list = {.name = "list",
	.group = "look",
	.called = "ps ls dir status overview tree",
	.takes = "kind",
	.summary = "list containers, images, volumes, networks or sessions",
	.usage = "[KIND]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_TABLE | VERB_WATCH,
	.least = 0,
	.most = 1,
	.run = run};
