/* What a description and the state differ in, and whether it can be done. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "container/image_choice.h"
#include "container/own_users.h"
#include "group/group.h"
#include "network/network.h"
#include "store/machine.h"

/* ---- differences ---- */

/* The value of a setting's digest in the text; its length in *len. */
static const char *find_digest(
	const char *text, const char *name, size_t name_len, size_t *len)
{
	while (*text) {
		size_t word = strcspn(text, " ");

		if (strncmp(text, name, name_len) == 0 &&
			text[name_len] == '=') {
			*len = word - name_len - 1;
			return text + name_len + 1;
		}
		text += word + (text[word] == ' ');
	}
	*len = 0;
	return "";
}

/* The names of those that stand in one and are not the same in other; appended.
 * missing: only those that other has not at all. */
static void add_names(
	const char *one, const char *other, bool missing, char names[160])
{
	while (*one) {
		size_t word = strcspn(one, " "), name = strcspn(one, "="), len;
		const char *value = find_digest(other, one, name, &len);
		size_t used = strlen(names);

		if ((missing ? !len
			     : len != word - name - 1 ||
					    strncmp(value, one + name + 1,
						    len) != 0) &&
			used < 120)
			snprintf(names + used, 160 - used, "%s%.*s",
				used ? ", " : "", (int)name, one);
		one += word + (one[word] == ' ');
	}
}

/* True where the image's name stands for another one here by now. Registries
 * are not asked: what runs goes on. */
static bool is_another_image(
	const struct th_context *context, const struct th_group_item *item)
{
	struct th_settings here = *item->settings;
	struct th_image_choice choice;
	struct th_error ignored = {0}; /* then it is the same */
	bool another;

	if (here.image_later)
		return false;
	here.fetch = TH_FETCH_NEVER;
	another = th_image_choose(context, &here, &choice, &ignored) == 0 &&
		choice.here &&
		strcmp(choice.image.digest, item->before.image) != 0;
	th_image_choice_release(&choice);
	return another;
}

/* "image, env": what has changed; "" where nothing has. */
static void find_changes(const struct th_context *context,
	struct th_group_item *item, const struct th_member *known)
{
	item->why[0] = '\0';
	add_names(item->member.settings, known->settings, false, item->why);
	add_names(known->settings, item->member.settings, true, item->why);
	if (!item->why[0] && is_another_image(context, item))
		snprintf(item->why, sizeof(item->why), "image");
}

/* ---- comparing ---- */

static int say_taken(const struct th_group *group,
	const struct th_group_item *item, const struct th_member *known,
	struct th_problems *problems)
{
	struct th_error err = {0};

	if (known)
		th_fail(&err, TH_IN_USE,
			"%s: the name is taken by a container of the group "
			"\"%s\"",
			item->before.name, known->group);
	else
		th_fail(&err, TH_IN_USE,
			"%s: the name is taken by a container that belongs to "
			"no group",
			item->before.name);
	th_hint(&err, "choose another name in \"%s\", or: tidyhull remove %s%s",
		group->name,
		th_container_is_up(&item->before) ? "--force " : "",
		item->before.name);
	th_problems_add(problems, &err);
	return 0;
}

static int compare_one(const struct th_context *context, struct th_group *group,
	struct th_group_item *item, struct th_problems *problems,
	struct th_error *err)
{
	struct th_db *db = context->store->db;
	struct th_member known;
	int rc;

	item->act = TH_GROUP_MAKE;
	item->settings->replaces = NULL;
	rc = th_state_get_named(db, item->settings->name, &item->before, err);
	if (rc == 1)
		rc = th_container_settle_row(context, &item->before, err)
			? -1
			: item->before.id[0] != '\0';
	if (rc <= 0)
		return rc;
	item->row = item->before;
	item->was_up = th_container_is_up(&item->before);
	rc = th_member_get(db, item->before.id, &known, err);
	if (rc < 0)
		return -1;
	if (rc == 0 || strcmp(known.group, group->name) != 0)
		return say_taken(group, item, rc ? &known : NULL, problems);
	find_changes(context, item, &known);
	if (item->why[0]) {
		item->act = TH_GROUP_REMAKE;
		return 0;
	}
	item->act = item->was_up && item->before.state != TH_STATE_WAITING
		? TH_GROUP_LEAVE
		: TH_GROUP_START;
	/* In another order, it is the same container. */
	if (strcmp(known.after, item->member.after) == 0 &&
		strcmp(known.member, item->member.member) == 0)
		return 0;
	return th_member_set(db, item->before.id, &item->member, err);
}

static bool is_described(const struct th_group *group, const char *id)
{
	for (size_t i = 0; i < group->count; i++) {
		if (strcmp(group->items[i].before.id, id) == 0)
			return true;
	}
	return false;
}

static int add_gone(struct th_group *group, const struct th_member *member,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_group_item *more =
		realloc(group->items, (group->count + 1) * sizeof(*more));

	if (!more)
		return th_fail_memory(err);
	group->items = more;
	more = &more[group->count++];
	memset(more, 0, sizeof(*more));
	more->member = *member;
	more->before = more->row = *row;
	more->was_up = th_container_is_up(row);
	more->act = TH_GROUP_REMOVE;
	/* Nobody waits for it, and it for nobody. */
	more->member.member[0] = more->member.after[0] = '\0';
	snprintf(more->why, sizeof(more->why), "not in the file");
	return 0;
}

int th_group_compare(const struct th_context *context, struct th_group *group,
	struct th_problems *problems, struct th_error *err)
{
	struct th_member *members = NULL;
	size_t count = 0;
	int rc = 0;

	th_replacements_settle(context);
	for (size_t i = 0; i < group->count; i++) {
		struct th_error own = {0};

		if (compare_one(
			    context, group, &group->items[i], problems, &own))
			th_problems_add(problems, &own);
	}
	if (th_member_list(
		    context->store->db, group->name, &members, &count, err))
		return -1;
	for (size_t i = 0; rc == 0 && i < count; i++) {
		struct th_container_row row;

		if (is_described(group, members[i].container))
			continue;
		rc = th_state_get(
			context->store->db, members[i].container, &row, err);
		rc = rc == 1 ? add_gone(group, &members[i], &row, err) : rc;
	}
	free(members);
	return rc ? -1 : th_group_link(group, err);
}

/* ---- checking ---- */

static void add_named(
	struct th_problems *problems, const char *name, struct th_problems *own)
{
	for (size_t i = 0; i < own->count; i++) {
		struct th_error err = own->list[i];
		char reason[sizeof(err.msg)];

		snprintf(reason, sizeof(reason), "%s", err.msg);
		snprintf(err.msg, sizeof(err.msg), "%.60s: %.440s", name,
			reason);
		th_problems_add(problems, &err);
	}
	th_problems_release(own);
}

static bool clash(const struct th_port *one, const struct th_port *other)
{
	return one->host_port && one->host_port == other->host_port &&
		one->udp == other->udp &&
		(!one->address[0] || !other->address[0] ||
			strcmp(one->address, other->address) == 0);
}

/* Two that are to run at the same time cannot have one port. */
static void check_clashes(const struct th_group_item *one,
	const struct th_group_item *other, struct th_problems *problems)
{
	for (size_t i = 0; i < one->settings->port_count; i++) {
		for (size_t k = 0; k < other->settings->port_count; k++) {
			const struct th_port *port = &one->settings->ports[i];
			struct th_error err = {0};

			if (!clash(port, &other->settings->ports[k]))
				continue;
			th_fail(&err, TH_USAGE,
				"%s and %s both want port %d/%s",
				one->settings->name, other->settings->name,
				port->host_port, port->udp ? "udp" : "tcp");
			th_hint(&err,
				"give one of them another port, or only "
				"the port inside for a free one");
			th_problems_add(problems, &err);
		}
	}
}

/* Those that go give their ports back before. */
static int list_leaving(
	const struct th_group *group, struct th_strings *leaving)
{
	int rc = 0;

	for (size_t i = 0; i < group->count; i++) {
		if (group->items[i].act == TH_GROUP_REMOVE)
			rc |= th_strings_add(
				leaving, group->items[i].before.id);
	}
	return rc;
}

/* True where it shares the network of another one of the group. */
static bool shares_network(
	const struct th_group *group, const struct th_group_item *item)
{
	const struct th_strings *texts = &item->settings->network_texts;

	for (size_t i = 0; texts->count && i < group->count; i++) {
		const struct th_settings *other = group->items[i].settings;

		if (other && th_network_is_with(texts->items[0]) &&
			strcmp(texts->items[0] + strlen(TH_NETWORK_WITH),
				other->name) == 0)
			return true;
	}
	return false;
}

void th_group_check(const struct th_context *context, struct th_group *group,
	struct th_problems *problems)
{
	struct th_strings leaving = {0};
	struct th_error err = {0};

	if (list_leaving(group, &leaving)) {
		th_fail_memory(&err);
		th_problems_add(problems, &err);
	}
	for (size_t i = 0; i < group->count; i++) {
		struct th_group_item *item = &group->items[i];
		struct th_problems own = {0};

		if (!item->settings)
			continue;
		item->settings->leaving = &leaving;
		item->settings->with_later = shares_network(group, item);
		if (item->act == TH_GROUP_REMAKE)
			item->settings->replaces = item->before.id;
		if (item->act == TH_GROUP_MAKE || item->act == TH_GROUP_REMAKE)
			th_container_check(context, item->settings, &own);
		else
			th_settings_check(item->settings, &own);
		add_named(problems, item->settings->name, &own);
		item->settings->leaving = NULL;
		item->settings->with_later = false;
		for (size_t k = 0; k < i; k++) {
			if (group->items[k].settings)
				check_clashes(&group->items[k], item, problems);
		}
	}
	th_strings_release(&leaving);
}
