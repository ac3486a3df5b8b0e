#include "group/group.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/sha256.h"
#include "network/network.h"
#include "store/machine.h"

const char *th_group_act_word(enum th_group_act act)
{
	static const char *const words[] = {
		"leave", "start", "create", "recreate", "remove"};

	return words[act];
}

void th_group_release(struct th_group *group)
{
	for (size_t i = 0; i < group->count; i++)
		free(group->items[i].after);
	free(group->items);
	memset(group, 0, sizeof(*group));
}

/* ---- order ---- */

static int add_after(struct th_group_item *item, size_t other,
	enum th_after_what what, struct th_error *err)
{
	struct th_group_after *more =
		realloc(item->after, (item->after_count + 1) * sizeof(*more));

	if (!more)
		return th_fail_memory(err);
	item->after = more;
	more[item->after_count++] = (struct th_group_after){other, what};
	return 0;
}

/* All copies of the member. One that is gone is waited for no more. */
static int link_member(struct th_group *group, struct th_group_item *item,
	const char *member, enum th_after_what what, struct th_error *err)
{
	for (size_t i = 0; i < group->count; i++) {
		if (&group->items[i] != item &&
			strcmp(group->items[i].member.group,
				item->member.group) == 0 &&
			strcmp(group->items[i].member.member, member) == 0 &&
			add_after(item, i, what, err))
			return -1;
	}
	return 0;
}

static int link_item(struct th_group *group, struct th_group_item *item,
	struct th_error *err)
{
	char copy[TH_AFTER_TEXT], *rest = NULL;
	int rc = 0;

	snprintf(copy, sizeof(copy), "%s", item->member.after);
	for (char *one = strtok_r(copy, " ", &rest); one && rc == 0;
		one = strtok_r(NULL, " ", &rest)) {
		char *equals = strchr(one, '=');
		enum th_after_what what = TH_AFTER_RUNNING;

		if (!equals)
			continue;
		*equals = '\0';
		while (what < TH_AFTER_ENDED &&
			strcmp(th_after_word(what), equals + 1) != 0)
			what++;
		rc = link_member(group, item, one, what, err);
	}
	return rc;
}

/* The state may hold a loop where files were changed by halves: then some wait
 * for none. */
static void rank(struct th_group *group)
{
	bool moved = true;

	for (size_t round = 0; moved && round <= group->count; round++) {
		moved = false;
		for (size_t i = 0; i < group->count; i++) {
			struct th_group_item *item = &group->items[i];

			for (size_t k = 0; k < item->after_count; k++) {
				int other =
					group->items[item->after[k].item].rank;

				if (item->rank > other ||
					other >= (int)group->count)
					continue;
				item->rank = other + 1;
				moved = true;
			}
		}
	}
	for (size_t i = 0; moved && i < group->count; i++)
		group->items[i].after_count = 0;
}

int th_group_link(struct th_group *group, struct th_error *err)
{
	for (size_t i = 0; i < group->count; i++) {
		group->items[i].after_count = 0;
		group->items[i].rank = 0;
		if (link_item(group, &group->items[i], err))
			return -1;
	}
	rank(group);
	return 0;
}

/* ---- what the state knows ---- */

static const char *name_of(const struct th_group_item *item)
{
	return item->settings ? item->settings->name : item->before.name;
}

static int by_rank(const void *one, const void *other)
{
	const struct th_group_item *a = one, *b = other;

	if (a->rank != b->rank)
		return a->rank < b->rank ? -1 : 1;
	/* Of copies number 10 comes behind number 9. */
	return strverscmp(name_of(a), name_of(b));
}

/* One more, as it is. */
static int add_row(const struct th_context *context, struct th_group *group,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_group_item *item = &group->items[group->count];
	int rc = th_member_get(context->store->db, row->id, &item->member, err);

	if (rc < 0)
		return -1;
	item->before = item->row = *row;
	item->was_up = th_container_is_up(row);
	item->act = item->was_up && row->state != TH_STATE_WAITING
		? TH_GROUP_LEAVE
		: TH_GROUP_START;
	group->count++;
	return 0;
}

int th_group_of(const struct th_context *context,
	const struct th_container_row *rows, size_t count,
	struct th_group *group, struct th_error *err)
{
	int rc = 0;

	memset(group, 0, sizeof(*group));
	group->items = calloc(count + 1, sizeof(*group->items));
	if (!group->items)
		return th_fail_memory(err);
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = add_row(context, group, &rows[i], err);
	if (rc == 0)
		rc = th_group_link(group, err);
	if (rc == 0) {
		qsort(group->items, group->count, sizeof(*group->items),
			by_rank);
		/* Their places in the list are others now. */
		rc = th_group_link(group, err);
	}
	if (rc)
		th_group_release(group);
	return rc;
}

int th_group_rows(const struct th_context *context, const char *name,
	struct th_container_row **rows, size_t *count, struct th_error *err)
{
	struct th_db *db = context->store->db;
	struct th_member *members = NULL;
	size_t all = 0;
	int rc;

	*rows = NULL;
	*count = 0;
	th_replacements_settle(context);
	if (th_member_list(db, name, &members, &all, err))
		return -1;
	*rows = calloc(all + 1, sizeof(**rows));
	rc = *rows ? 0 : th_fail_memory(err);
	for (size_t i = 0; rc == 0 && i < all; i++) {
		struct th_container_row *row = &(*rows)[*count];

		rc = th_state_get(db, members[i].container, row, err);
		if (rc == 1)
			rc = th_container_settle_row(context, row, err);
		else if (rc == 0)
			row->id[0] = '\0';
		if (rc == 0 && row->id[0])
			(*count)++;
	}
	free(members);
	if (rc == 0 && !*count)
		rc = th_fail(err, TH_NOT_FOUND, "there is no group \"%.100s\"",
			name);
	if (rc) {
		free(*rows);
		*rows = NULL;
	}
	return rc ? -1 : 0;
}

int th_group_tidy(const struct th_context *context, const char *name,
	struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_group_row *groups = NULL;
	struct th_network_row *networks = NULL;
	size_t left = 0, count = 0;
	int rc;

	if (th_group_list(store->db, name, &groups, &left, err))
		return -1;
	free(groups);
	if (left)
		return 0;
	rc = th_network_list(store, name, &networks, &count, err);
	if (rc == 0 && count && !networks[0].by_hand && !networks[0].users)
		rc = th_network_remove(store, name, err);
	free(networks);
	return rc;
}

/* Locks have short names. */
static void lock_name(const char *name, char key[24])
{
	unsigned char digest[32];

	th_sha256(name, strlen(name), digest);
	snprintf(key, 24, "group-%02x%02x%02x%02x%02x%02x", digest[0],
		digest[1], digest[2], digest[3], digest[4], digest[5]);
}

int th_group_hold(const struct th_context *context, const char *name, int *lock,
	struct th_error *err)
{
	char key[24];

	lock_name(name, key);
	return th_build_lock(context->store, key, lock, err);
}

void th_group_let_go(
	const struct th_context *context, const char *name, int *lock)
{
	char key[24];

	lock_name(name, key);
	th_build_unlock(context->store, key, lock);
}

/* ---- what describes it ---- */

static void add_digest(const char *name, const char *const *texts, size_t count,
	char text[TH_SETTINGS_DIGEST])
{
	size_t used = strlen(text);
	unsigned char digest[32];
	struct th_buf all;

	th_buf_init(&all, 16u << 20);
	for (size_t i = 0; i < count; i++) {
		if (texts[i])
			th_buf_add(&all, texts[i], strlen(texts[i]) + 1);
	}
	if (all.len && used < TH_SETTINGS_DIGEST) {
		th_sha256(all.data, all.len, digest);
		snprintf(text + used, TH_SETTINGS_DIGEST - used,
			"%s%s=%02x%02x%02x%02x%02x%02x%02x%02x",
			used ? " " : "", name, digest[0], digest[1], digest[2],
			digest[3], digest[4], digest[5], digest[6], digest[7]);
	}
	th_buf_release(&all);
}

void th_group_digest(
	const struct th_settings *settings, char text[TH_SETTINGS_DIGEST])
{
	struct th_settings *from = (struct th_settings *)(uintptr_t)settings;
	static const char *const yes[] = {"yes"};

	text[0] = '\0';
	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		void *value = th_setting_place(one, from);
		const struct th_strings *list = value;

		/* Its name is what it is known by. */
		if (strcmp(one->name, "name") == 0)
			continue;
		if (one->kind == TH_SETTING_LIST)
			add_digest(one->name, (const char *const *)list->items,
				list->count, text);
		else if (one->kind == TH_SETTING_TEXT)
			add_digest(
				one->name, (const char *const *)value, 1, text);
		else if (*(bool *)value)
			add_digest(one->name, yes, 1, text);
	}
}
