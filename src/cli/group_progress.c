#include "cli/group_progress.h"

#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "view/describe.h"
#include "cli/output.h"
#include "cli/shown.h"

static const char *name_of(const struct th_group_item *item)
{
	return item->settings ? item->settings->name : item->before.name;
}

static bool is_silent(const struct group_progress *progress)
{
	return progress->call->quiet || progress->call->json;
}

void group_progress_begin(struct group_progress *progress)
{
	progress->began_us = th_clock_now_us();
	fflush(stdout);
}

static void print_done(
	struct group_progress *progress, const struct th_group_item *item)
{
	static const char *const words[] = {"left as it was", "started",
		"launched", "recreated", "removed"};
	char reach[512] = "", span[TH_TIME_TEXT];

	if (item->ready) {
		th_clock_span(th_clock_now_us() - progress->began_us, span);
		printf("  %-16s ready after %s\n", shown(name_of(item)), span);
		return;
	}
	if (item->act != TH_GROUP_REMOVE)
		th_view_reach(&progress->call->hull.context, item->row.id,
			reach, sizeof(reach));
	printf("  %-16s %s", shown(name_of(item)), words[item->act]);
	if (item->act == TH_GROUP_REMAKE)
		printf(", as it was changed: %s", item->why);
	if (item->act == TH_GROUP_REMOVE)
		fputs(", as the file no longer has it", stdout);
	printf("%s%s\n", reach[0] ? "; port " : "", reach);
}

static void print_failed(const struct th_group_item *item)
{
	char what[2 * TH_NAME_MAX];

	snprintf(what, sizeof(what), "%s", shown(name_of(item)));
	fprintf(stderr, "tidyhull: cannot %s \"%s\": %s\n",
		item->act == TH_GROUP_LEAVE ? "use"
					    : th_group_act_word(item->act),
		what, shown(item->err.msg));
	if (item->err.hint[0])
		fprintf(stderr, "  %s\n", shown(item->err.hint));
	say_last_words(item->words);
	if (item->went_back)
		fprintf(stderr, "  %s is as it was before%s\n",
			shown(name_of(item)), item->was_up ? ", and runs" : "");
}

void group_progress_tell(void *owner, const struct th_group *group,
	const struct th_group_item *item)
{
	struct group_progress *progress = owner;

	(void)group;
	if (item->step == TH_GROUP_FAILED) {
		fflush(stdout);
		print_failed(item);
	} else if (item->step == TH_GROUP_DONE && progress->call->quiet &&
		!item->ready && item->act != TH_GROUP_LEAVE &&
		item->act != TH_GROUP_REMOVE) {
		printf("%s\n", item->row.id);
	} else if (item->step == TH_GROUP_DONE && !is_silent(progress) &&
		(item->act != TH_GROUP_LEAVE || !item->ready)) {
		print_done(progress, item);
		fflush(stdout);
	}
}

/* One that ended at once was up, too: it is told, and no failure. */
static size_t count_up(struct group_progress *progress,
	const struct th_group *group, size_t *all)
{
	size_t up = 0;

	*all = 0;
	for (size_t i = 0; i < group->count; i++) {
		const struct th_group_item *item = &group->items[i];
		struct th_container_row now;
		struct th_error ignored = {0}; /* at the next look */
		char state[96];

		if (item->act == TH_GROUP_REMOVE || !item->row.id[0] ||
			th_state_get(progress->call->hull.context.store->db,
				item->row.id, &now, &ignored) != 1)
			continue;
		(*all)++;
		if (now.state == TH_STATE_RUNNING ||
			now.state == TH_STATE_PAUSED) {
			up++;
			continue;
		}
		state_text(&now, state);
		if (!is_silent(progress) && item->step == TH_GROUP_DONE)
			printf("  %-16s %s\n", shown(now.name), state);
	}
	return up;
}

static json_t *describe(
	struct group_progress *progress, const struct th_group *group)
{
	json_t *list = json_array();

	for (size_t i = 0; i < group->count; i++) {
		const struct th_group_item *item = &group->items[i];
		struct th_container_row now;
		struct th_error ignored = {0}; /* at the next look */

		if (item->act != TH_GROUP_REMOVE && item->row.id[0] &&
			th_state_get(progress->call->hull.context.store->db,
				item->row.id, &now, &ignored) == 1)
			json_array_append_new(list,
				th_view_container(
					&progress->call->hull.context, &now));
	}
	return json_pack("{s:s s:s s:o}", "kind", "group", "name", group->name,
		"containers", list);
}

static int first_code(const struct th_group *group)
{
	for (size_t i = 0; i < group->count; i++) {
		if (group->items[i].step == TH_GROUP_FAILED)
			return exit_code_of(group->items[i].err.code);
	}
	return EXIT_FAILED;
}

int group_progress_left(const struct th_group *group)
{
	char left[200] = "";

	for (size_t i = 0; i < group->count; i++) {
		size_t used = strlen(left);

		if (group->items[i].step == TH_GROUP_LEFT_OUT)
			snprintf(left + used, sizeof(left) - used, "%s%s",
				used ? ", " : "", name_of(&group->items[i]));
	}
	if (left[0])
		fprintf(stderr, "  not begun: %s\n", shown(left));
	return first_code(group);
}

int group_progress_end(struct group_progress *progress,
	const struct th_group *group, int rc, bool undone)
{
	int code = rc ? group_progress_left(group) : EXIT_DONE;
	size_t up, all;

	if (undone)
		fprintf(stderr, "  the group \"%s\" is as it was before\n",
			shown(group->name));
	if (progress->call->json)
		return print_json(describe(progress, group)) ? EXIT_FAILED
							     : code;
	up = count_up(progress, group, &all);
	if (is_silent(progress))
		return code;
	if (undone)
		return code;
	printf("group %s: %zu of %zu containers run\n", shown(group->name), up,
		all);
	if (rc)
		printf("  look: tidyhull list --all; again, once it is mended: "
		       "tidyhull launch --settings %s\n",
			shown(option_value(progress->call, "settings")));
	return code;
}
