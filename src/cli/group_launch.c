#include "cli/group_launch.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/choose.h"
#include "view/describe.h"
#include "cli/each.h"
#include "cli/group_parts.h"
#include "cli/group_progress.h"
#include "cli/output.h"
#include "cli/settings_text.h"
#include "cli/shown.h"
#include "container/new_network.h"

#define READY_MS 60000

/* ---- what is asked for ---- */

/* Options that are settings would be those of which container? */
static int check_options(const struct invocation *call, struct th_error *err)
{
	static const char *const own[] = {"settings", "given", "plan", "fetch",
		"ready-within", "grace", "on-failure", "root", "config", "json",
		"quiet", "yes"};

	if (call->object_count || call->has_command) {
		th_fail(err, TH_USAGE,
			"a group's containers have their images and commands "
			"in the file");
		return th_hint(err, "leave the %s out",
			call->has_command ? "command" : "image");
	}
	for (int i = 0; i < call->option_count; i++) {
		bool known = false;

		for (size_t k = 0; k < sizeof(own) / sizeof(*own); k++)
			known |= strcmp(call->options[i].name, own[k]) == 0;
		if (known)
			continue;
		th_fail(err, TH_USAGE,
			"--%s does not say which container of the group it is "
			"for",
			call->options[i].name);
		return th_hint(err,
			"write it into the file, with a value that --given "
			"sets");
	}
	return 0;
}

static int read_options(struct launching *launching, struct th_error *err)
{
	struct invocation *call = launching->call;
	const char *on_failure = option_value(call, "on-failure");

	if (check_options(call, err))
		return -1;
	if (on_failure && strcmp(on_failure, "keep") != 0 &&
		strcmp(on_failure, "undo") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --on-failure; use keep or "
			"undo",
			on_failure);
	launching->options.undo = on_failure && strcmp(on_failure, "undo") == 0;
	launching->options.ready_ms = READY_MS;
	return read_grace(call, &launching->options.grace_ms, err) ||
			read_span(call, "ready-within",
				&launching->options.ready_ms, err)
		? -1
		: 0;
}

/* ---- the containers of the file ---- */

static void add_problem(const struct launching *launching,
	const struct th_file_container *one, struct th_error *err,
	struct th_problems *problems)
{
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg),
		"%.150s, line %zu, column %zu: %.60s: %.250s",
		option_value(launching->call, "settings"), one->place.line,
		one->place.column, one->name, reason);
	th_problems_add(problems, err);
}

/* As an invocation of its own: the file's words are options. */
static int read_one(
	struct launching *launching, size_t at, struct th_error *err)
{
	struct th_file_container *one = &launching->file->containers[at];
	struct making *making = &launching->makings[at];
	struct invocation own = *launching->call;
	const char *fetch = option_value(launching->call, "fetch");
	char *recipe[2] = {one->build, NULL};
	int rc;

	own.options = calloc(3, sizeof(*own.options));
	if (!own.options)
		return th_fail_memory(err);
	own.option_count = 0;
	own.options[own.option_count++] =
		(struct given_option){"name", one->name};
	if (fetch)
		own.options[own.option_count++] =
			(struct given_option){"fetch", fetch};
	if (one->build) {
		own.objects = recipe;
		own.object_count = 1;
	}
	rc = settings_file_merge(&own, one, err);
	if (rc == 0)
		rc = making_read(&own, making, false, err);
	if (own.objects != recipe)
		free(own.objects);
	free(own.options);
	making->settings.image_later = one->build != NULL;
	making->settings.coming_networks = &launching->networks;
	return rc;
}

static int describe_after(const struct th_file_container *one,
	char text[TH_AFTER_TEXT], struct th_error *err)
{
	size_t used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < one->after_count; i++) {
		used += (size_t)snprintf(text + used, TH_AFTER_TEXT - used,
			"%s%s=%s", used ? " " : "", one->after[i].member,
			th_after_word(one->after[i].what));
		if (used >= TH_AFTER_TEXT)
			return th_fail(
				err, TH_USAGE, "it waits for too many others");
	}
	return 0;
}

static int add_item(
	struct launching *launching, size_t at, struct th_error *err)
{
	const struct th_file_container *one = &launching->file->containers[at];
	struct th_group_item *item =
		&launching->group.items[launching->group.count++];

	item->settings = &launching->makings[at].settings;
	snprintf(item->member.group, sizeof(item->member.group), "%s",
		launching->file->group);
	snprintf(item->member.member, sizeof(item->member.member), "%s",
		one->member);
	item->settings->member = &item->member;
	th_group_digest(item->settings, item->member.settings);
	return describe_after(one, item->member.after, err);
}

/* The list grows by those that go, and may move then. */
static void point_members(struct launching *launching)
{
	for (size_t i = 0; i < launching->group.count; i++) {
		struct th_group_item *item = &launching->group.items[i];

		if (item->settings)
			item->settings->member = &item->member;
	}
}

static void read_all(struct launching *launching, struct th_problems *problems)
{
	size_t count = launching->file->container_count;
	struct th_error err = {0};

	launching->makings = calloc(count + 1, sizeof(*launching->makings));
	launching->group.items =
		calloc(count + 1, sizeof(*launching->group.items));
	if (!launching->makings || !launching->group.items) {
		th_fail_memory(&err);
		th_problems_add(problems, &err);
		return;
	}
	snprintf(launching->group.name, sizeof(launching->group.name), "%s",
		launching->file->group);
	for (size_t i = 0; i < launching->file->network_count; i++) {
		if (th_strings_add(&launching->networks,
			    launching->file->networks[i].name))
			th_fail_memory(&err);
	}
	for (size_t i = 0; i < count; i++) {
		if (read_one(launching, i, &err) ||
			add_item(launching, i, &err))
			add_problem(launching, &launching->file->containers[i],
				&err, problems);
	}
}

/* ---- comparing ---- */

/* What an earlier look has found is forgotten. */
static int compare(struct launching *launching, struct th_problems *problems,
	struct th_error *err)
{
	struct th_group *group = &launching->group;
	int rc;

	for (size_t i = launching->file->container_count; i < group->count; i++)
		free(group->items[i].after);
	group->count = launching->file->container_count;
	rc = th_group_compare(
		&launching->call->hull.context, group, problems, err);
	point_members(launching);
	return rc;
}

static void check_networks(
	struct launching *launching, struct th_problems *problems)
{
	struct th_store *store = launching->call->hull.context.store;

	for (size_t i = 0; i < launching->file->network_count; i++) {
		const struct th_file_network *one =
			&launching->file->networks[i];
		struct th_network_row *rows = NULL;
		struct th_error err = {0};
		size_t count = 0;
		bool same = true;

		if (th_network_list(store, one->name, &rows, &count, &err)) {
			th_problems_add(problems, &err);
			continue;
		}
		if (count)
			same = rows[0].internal == one->internal &&
				rows[0].loopback == one->loopback;
		for (size_t k = 0; count && k < one->subnets.count; k++)
			same &= strcmp(one->subnets.items[k],
					rows[0].subnet4) == 0 ||
				strcmp(one->subnets.items[k],
					rows[0].subnet6) == 0;
		free(rows);
		if (same)
			continue;
		th_fail(&err, TH_IN_USE,
			"%.150s, line %zu, column %zu: the network \"%s\" is "
			"there already, and is another one",
			option_value(launching->call, "settings"),
			one->place.line, one->place.column, one->name);
		th_hint(&err,
			"tidyhull show network:%s; once nothing uses it: "
			"tidyhull remove network:%s",
			one->name, one->name);
		th_problems_add(problems, &err);
	}
}

static const char *because(
	const struct th_group_item *item, const char *build, char text[200])
{
	switch (item->act) {
	case TH_GROUP_MAKE:
		return "there is none";
	case TH_GROUP_START:
		return "it does not run";
	case TH_GROUP_REMOVE:
		return "the file no longer has it";
	case TH_GROUP_REMAKE:
		snprintf(text, 200, "changed: %s", item->why);
		return text;
	case TH_GROUP_LEAVE:
		break;
	}
	return build ? shown(build) : "it is as described";
}

static void print_plan(const struct launching *launching)
{
	char text[200];

	const struct th_group *group = &launching->group;
	struct table *table = table_new();
	bool any = false;

	table_column(table, "container", false);
	table_column(table, "what is done", false);
	table_column(table, "because", false);
	for (size_t i = 0; i < group->count; i++) {
		const struct th_group_item *item = &group->items[i];
		bool leave = item->act == TH_GROUP_LEAVE;
		const char *build = i < launching->file->container_count
			? launching->file->containers[i].build
			: NULL;

		any |= !leave || build;
		table_row(table);
		table_cell(table, "bold", "%s",
			item->settings ? item->settings->name
				       : item->before.name);
		table_cell(table, leave ? "darkgray" : NULL, "%s",
			leave && build ? "build, then see"
				       : th_group_act_word(item->act));
		table_cell(table, NULL, "%s", because(item, build, text));
	}
	table_print(table);
	puts(any ? "nothing was changed"
		 : "there is nothing to do, and nothing was changed");
}

/* Those that the file no longer has: a person is asked, a script is not. False
 * where nothing is to be done at all. */
static bool confirm_gone(struct launching *launching, struct th_error *err)
{
	struct th_group *group = &launching->group;
	char names[200] = "", question[300];
	size_t gone = 0;

	for (size_t i = 0; i < group->count; i++) {
		size_t used = strlen(names);

		if (group->items[i].act != TH_GROUP_REMOVE)
			continue;
		gone++;
		snprintf(names + used, sizeof(names) - used, "%s%s",
			used ? ", " : "", group->items[i].before.name);
	}
	if (!gone || launching->call->yes)
		return true;
	snprintf(question, sizeof(question),
		"the file no longer has %s: remove %s?", names,
		gone == 1 ? "it" : "them");
	if (isatty(0) && on_terminal()) {
		if (choose_yes(question))
			return true;
		/* Then they stay as they are. */
		while (group->count &&
			group->items[group->count - 1].act == TH_GROUP_REMOVE)
			free(group->items[--group->count].after);
		return true;
	}
	th_fail(err, TH_USAGE,
		"the file no longer has %s, which would be removed", names);
	th_hint(err, "add --yes to remove %s, or put %s back into the file",
		gone == 1 ? "it" : "them", gone == 1 ? "it" : "them");
	return false;
}

/* ---- what is needed first ---- */

static int make_others(struct launching *launching, struct th_error *err)
{
	struct th_store *store = launching->call->hull.context.store;
	struct th_settings_file *file = launching->file;

	for (size_t i = 0; i < file->volumes.count; i++) {
		if (th_volume_make(store, file->volumes.items[i], err) < 0)
			return -1;
	}
	for (size_t i = 0; i < file->network_count; i++) {
		struct th_new_network wish = {.name = file->networks[i].name,
			.subnets = file->networks[i].subnets,
			.internal = file->networks[i].internal,
			.loopback = file->networks[i].loopback};
		struct th_network_row row;

		if (th_network_new(store, &wish, &row, err) < 0)
			return -1;
	}
	return 0;
}

/* ---- the whole ---- */

/* One command at a time changes a group; the next one sees what came of it. */
static int hold_group(
	struct launching *launching, int *lock, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = 50000000};
	const struct th_context *context = &launching->call->hull.context;
	bool told = launching->call->quiet;
	int rc;

	while ((rc = th_group_hold(
			context, launching->group.name, lock, err)) == 0) {
		if (!told)
			fputs("note: another command changes the group; "
			      "waiting for it\n",
				stderr);
		told = true;
		if (atomic_load(context->cancel))
			return th_fail(err, TH_FAILED, "interrupted");
		nanosleep(&step, NULL);
	}
	return rc < 0 ? -1 : 0;
}

static int change_group(struct launching *launching)
{
	struct group_progress progress = {.call = launching->call};
	struct th_problems problems = {0};
	struct th_error err = {0};
	bool undone;
	int rc, code;

	/* What was built or pulled may be another image than before, and
	 * others may have been at work. */
	if (compare(launching, &problems, &err)) {
		code = say_error(&err);
	} else if (problems.count) {
		code = say_problems("launch", launching->group.name, &problems);
	} else {
		launching->options.tell = group_progress_tell;
		launching->options.owner = &progress;
		group_progress_begin(&progress);
		rc = th_group_do(&launching->call->hull.context,
			&launching->group, &launching->options, &undone);
		code = group_progress_end(
			&progress, &launching->group, rc, undone);
	}
	th_problems_release(&problems);
	return code;
}

static int bring_up(struct launching *launching)
{
	struct th_error err = {0};
	int lock = -1, code;

	if (!confirm_gone(launching, &err) || build_images(launching, &err) ||
		pull_images(launching, &err) || make_others(launching, &err) ||
		hold_group(launching, &lock, &err))
		return say_error(&err);
	code = change_group(launching);
	th_group_let_go(
		&launching->call->hull.context, launching->group.name, &lock);
	return code;
}

static void release(struct launching *launching)
{
	size_t count = launching->file->container_count;

	for (size_t i = 0; launching->makings && i < count; i++)
		making_release(&launching->makings[i]);
	free(launching->makings);
	th_group_release(&launching->group);
	th_strings_release(&launching->digests);
	th_strings_release(&launching->networks);
}

int group_launch(struct invocation *call, struct th_settings_file *file)
{
	struct launching launching = {.call = call, .file = file};
	struct th_problems problems = {0};
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (read_options(&launching, &err))
		return say_error(&err);
	read_all(&launching, &problems);
	if (!problems.count && compare(&launching, &problems, &err))
		code = say_error(&err);
	if (!problems.count && code == EXIT_DONE) {
		check_networks(&launching, &problems);
		th_group_check(
			&call->hull.context, &launching.group, &problems);
	}
	if (problems.count)
		code = say_problems("launch", file->group, &problems);
	else if (code == EXIT_DONE && option_given(call, "plan"))
		print_plan(&launching);
	else if (code == EXIT_DONE)
		code = bring_up(&launching);
	th_problems_release(&problems);
	release(&launching);
	return code;
}
