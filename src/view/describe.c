#include "view/describe.h"
#include "view/history.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "container/networks.h"
#include "group/group.h"
#include "container/plan.h"
#include "oci/image_config.h"
#include "store/blob.h"

static bool is_every(const char *address)
{
	return strcmp(address, "0.0.0.0") == 0 || strcmp(address, "::") == 0;
}

/* The address to type on this host. */
static void near_address(const struct th_port_row *port, char text[80])
{
	if (is_every(port->address))
		snprintf(text, 80, "localhost:%d", port->host_port);
	else if (strchr(port->address, ':'))
		snprintf(text, 80, "[%s]:%d", port->address, port->host_port);
	else
		snprintf(text, 80, "%s:%d", port->address, port->host_port);
}

/* The usual ports of HTTP inside make a URL that can be opened. */
static bool is_http(int port)
{
	return port == 80 || port == 8080 || port == 8000 || port == 3000;
}

static json_t *describe_ports(const struct th_context *context, const char *id)
{
	struct th_port_row *rows = NULL;
	struct th_error err = {0};
	json_t *list = json_array();
	size_t count = 0;

	if (th_state_ports(context->store->db, id, &rows, &count, &err))
		return list;
	for (size_t i = 0; i < count; i++) {
		char address[80];
		json_t *port;

		near_address(&rows[i], address);
		port = json_pack("{s:i s:s s:s s:i s:s s:o}", "port",
			rows[i].port, "protocol", rows[i].protocol, "address",
			rows[i].address, "host-port", rows[i].host_port,
			"reach", address, "url",
			is_http(rows[i].port) &&
					strcmp(rows[i].protocol, "tcp") == 0
				? json_sprintf("http://%s", address)
				: json_null());
		json_array_append_new(list, port);
	}
	free(rows);
	return list;
}

static json_t *describe_places(const struct th_context *context, const char *id)
{
	struct th_network_use places[TH_NETWORKS_MAX];
	struct th_error ignored = {0}; /* then none are told */
	json_t *list = json_array();
	size_t count = 0;

	th_network_places(context->store, id, places, &count, &ignored);
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list,
			json_pack("{s:s s:o s:o}", "network", places[i].network,
				"address", th_json_word(places[i].address4),
				"address6", th_json_word(places[i].address6)));
	return list;
}

/* Nothing, where it ended by itself; of a start that failed, what was wrong. */
static const char *outcome_reason(
	const struct th_container_row *row, char text[TH_CAUSE_TEXT])
{
	if (row->cause.kind == TH_CAUSE_ENDED)
		return "";
	if (row->cause.kind == TH_CAUSE_COULD_NOT_START)
		return row->cause.text;
	th_cause_format(&row->cause, text);
	return text;
}

/* Who has anything of a kind at all. In a long list most have none, and need
 * not be asked about one by one. */
struct havers {
	struct th_strings lists[TH_HAVE_COUNT];
	bool known;
};

static void havers_read(const struct th_context *context, struct havers *havers)
{
	struct th_error ignored = {0}; /* then each is asked about */

	havers->known = true;
	for (int i = 0; i < TH_HAVE_COUNT; i++) {
		if (th_state_list_having(context->store->db, (enum th_have)i,
			    &havers->lists[i], &ignored))
			havers->known = false;
	}
}

static void havers_release(struct havers *havers)
{
	for (int i = 0; i < TH_HAVE_COUNT; i++)
		th_strings_release(&havers->lists[i]);
}

static int compare_text(const void *key, const void *item)
{
	return strcmp(key, *(char *const *)item);
}

static bool may_have(
	const struct havers *havers, const char *id, enum th_have what)
{
	const struct th_strings *list = &havers->lists[what];

	return !havers->known ||
		(list->count &&
			bsearch(id, list->items, list->count,
				sizeof(*list->items), compare_text));
}

/* A long list is made of very many members: json_pack reads its format for each
 * of them. */
static void put(json_t *doc, const char *key, json_t *value)
{
	json_object_set_new_nocheck(doc, key, value ? value : json_null());
}

static json_t *view_outcome(const struct th_container_row *row)
{
	char text[TH_CAUSE_TEXT];

	if (row->outcome == TH_OUTCOME_NONE)
		return json_null();
	return json_pack("{s:s s:s s:o s:b s:o s:o}", "kind",
		th_outcome_word(row->outcome), "cause",
		th_cause_word(row->cause.kind), "reason",
		th_json_word(outcome_reason(row, text)), "asked",
		th_cause_is_asked(&row->cause), "exit-code",
		row->outcome == TH_OUTCOME_EXITED ? json_integer(row->code)
						  : json_null(),
		"signal",
		row->outcome == TH_OUTCOME_SIGNAL ? json_integer(row->code)
						  : json_null());
}

static json_t *view_restart(const struct th_container_row *row)
{
	json_t *doc = json_object();

	put(doc, "policy",
		json_string(row->restart[0] ? row->restart : "never"));
	put(doc, "tries", json_integer(row->tries));
	put(doc, "restarts", json_integer(row->restarts));
	put(doc, "next",
		th_json_time(
			row->state == TH_STATE_WAITING ? row->next_us : 0));
	return doc;
}

static json_t *view_row(const struct th_context *context,
	const struct th_container_row *row, const struct havers *havers)
{
	char address4[TH_ADDRESS_TEXT] = "", address6[TH_ADDRESS_TEXT] = "";
	struct th_error err = {0};
	struct th_member member;
	char network[TH_NETWORK_TEXT];
	json_t *doc = json_object();

	if (may_have(havers, row->id, TH_HAVE_ADDRESSES))
		th_state_addresses(
			context->store->db, row->id, address4, address6, &err);
	put(doc, "kind", json_string_nocheck("container"));
	put(doc, "id", json_string_nocheck(row->id));
	put(doc, "name", json_string_nocheck(row->name));
	put(doc, "state", json_string_nocheck(th_state_word(row->state)));
	put(doc, "outcome", view_outcome(row));
	put(doc, "image", json_string(row->image_name));
	put(doc, "image-digest", json_string_nocheck(row->image));
	put(doc, "command", json_string(row->command));
	put(doc, "keep", json_boolean(row->keep));
	put(doc, "created", th_json_time(row->created_us));
	put(doc, "started", th_json_time(row->started_us));
	put(doc, "ended", th_json_time(row->ended_us));
	put(doc, "ports",
		may_have(havers, row->id, TH_HAVE_PORTS)
			? describe_ports(context, row->id)
			: json_array());
	put(doc, "network",
		th_json_word(th_network_text(context, row->network, network)));
	put(doc, "address", th_json_word(address4));
	put(doc, "address6", th_json_word(address6));
	put(doc, "networks",
		may_have(havers, row->id, TH_HAVE_NETWORKS)
			? describe_places(context, row->id)
			: json_array());
	put(doc, "restart", view_restart(row));
	put(doc, "group",
		may_have(havers, row->id, TH_HAVE_GROUP) &&
				th_member_get(context->store->db, row->id,
					&member, &err) == 1
			? json_string(member.group)
			: json_null());
	put(doc, "wanted", json_boolean(row->wanted));
	put(doc, "probe", th_json_word(row->probe));
	put(doc, "health", th_json_word(row->health));
	put(doc, "pid", row->pid ? json_integer(row->pid) : json_null());
	return doc;
}

json_t *th_view_container(
	const struct th_context *context, const struct th_container_row *row)
{
	const struct havers unknown = {.known = false};

	return view_row(context, row, &unknown);
}

void th_view_each(const struct th_context *context,
	const struct th_container_row *rows, size_t count,
	void (*take)(void *owner, json_t *container), void *owner)
{
	struct havers havers = {.known = false};

	havers_read(context, &havers);
	for (size_t i = 0; i < count; i++) {
		json_t *one = view_row(context, &rows[i], &havers);

		take(owner, one);
		json_decref(one);
	}
	havers_release(&havers);
}

static json_t *describe_member(const struct th_context *context,
	const struct th_group *group, const struct th_group_item *item,
	bool fully)
{
	json_t *doc = fully
		? th_view_container_fully(context, &item->before, false)
		: th_view_container(context, &item->before);
	json_t *after = json_array();

	for (size_t i = 0; i < item->after_count; i++)
		json_array_append_new(after,
			json_pack("{s:s s:s}", "container",
				group->items[item->after[i].item].before.name,
				"is", th_after_word(item->after[i].what)));
	json_object_set_new(doc, "after", after);
	return doc;
}

json_t *th_view_group(const struct th_context *context, const char *name,
	bool fully, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	struct th_group group;
	json_t *list, *doc = NULL;
	size_t count = 0;

	if (th_group_rows(context, name, &rows, &count, err) == 0 &&
		th_group_of(context, rows, count, &group, err) == 0) {
		list = json_array();
		for (size_t i = 0; i < group.count; i++)
			json_array_append_new(list,
				describe_member(context, &group,
					&group.items[i], fully));
		doc = json_pack("{s:s s:s s:o}", "kind", "group", "name", name,
			"containers", list);
		th_group_release(&group);
	}
	free(rows);
	return doc;
}

json_t *th_view_network(
	const struct th_context *context, const struct th_network_row *row)
{
	struct th_strings users = {0};
	struct th_error ignored = {0}; /* then none are told */
	json_t *doc;

	th_network_users(context->store, row->name, &users, &ignored);
	doc = json_pack("{s:s s:s s:o s:o s:b s:b s:b s:b s:o s:o}", "kind",
		"network", "name", row->name, "subnet",
		th_json_word(row->subnet4), "subnet6",
		th_json_word(row->subnet6), "outside", !row->internal,
		"host-loopback", (int)row->loopback, "up", row->running > 0,
		"by-hand", (int)row->by_hand, "created",
		th_json_time(row->created_us), "containers",
		th_json_from_strings(&users));
	th_strings_release(&users);
	return doc;
}

json_t *th_view_volume(
	const struct th_context *context, const struct th_volume_row *row)
{
	struct th_strings users = {0};
	struct th_error ignored = {0}; /* then none are told */
	char *path = th_volume_path(context->store, row->name);
	char below[TH_NAME_MAX + 16];
	json_t *doc;

	th_volume_users(context->store, row->name, &users, &ignored);
	snprintf(below, sizeof(below), "volumes/%s", row->name);
	doc = json_pack("{s:s s:s s:b s:I s:o s:o s:o s:s}", "kind", "volume",
		"name", row->name, "named", !row->own[0], "size",
		(json_int_t)th_tree_size(context->store->root_fd, below),
		"created", th_json_time(row->created_us), "used",
		th_json_time(row->used_us), "containers",
		th_json_from_strings(&users), "path", path ? path : "");
	th_strings_release(&users);
	free(path);
	return doc;
}

json_t *th_view_session(const struct th_session_row *row)
{
	return json_pack("{s:s s:s s:s s:s s:s s:s s:s s:b s:s s:o s:o s:o}",
		"kind", "session", "id", row->id, "container", row->container,
		"container-name", row->container_name, "command", row->command,
		"user", row->user, "by", row->actor, "background",
		row->background, "state", row->ended_us ? "ended" : "running",
		"started", th_json_time(row->started_us), "ended",
		th_json_time(row->ended_us), "exit-code",
		row->ended_us ? json_integer(row->code) : json_null());
}

static bool is_secret(const struct th_plan *plan, const char *pair)
{
	size_t key = strcspn(pair, "=");

	for (size_t i = 0; i < plan->secrets.count; i++) {
		if (strlen(plan->secrets.items[i]) == key &&
			strncmp(plan->secrets.items[i], pair, key) == 0)
			return true;
	}
	return false;
}

static json_t *describe_env(const struct th_plan *plan, bool reveal)
{
	json_t *list = json_array();

	for (size_t i = 0; i < plan->env.count; i++) {
		const char *pair = plan->env.items[i];

		if (!reveal && is_secret(plan, pair))
			json_array_append_new(list,
				json_sprintf("%.*s=(hidden)",
					(int)strcspn(pair, "="), pair));
		else
			json_array_append_new(list, json_string(pair));
	}
	return list;
}

/* Mostly one: then it is no list. */
static json_t *describe_networks(
	const struct th_context *context, const struct th_plan *plan)
{
	struct th_strings texts = {0};
	char text[TH_NETWORK_TEXT];
	json_t *doc;

	for (size_t i = 0; i < plan->network_count; i++)
		th_strings_take(
			&texts, th_network_use_format(&plan->networks[i]));
	if (texts.count > 1)
		doc = th_json_from_strings(&texts);
	else if (texts.count)
		doc = json_string(texts.items[0]);
	else
		doc = json_string(
			th_network_text(context, plan->network, text));
	th_strings_release(&texts);
	return doc;
}

/* A list of texts that it takes over. */
static json_t *take_texts(struct th_strings *texts)
{
	json_t *list = th_json_from_strings(texts);

	th_strings_release(texts);
	return list;
}

static json_t *describe_ports_set(const struct th_plan *plan)
{
	struct th_strings texts = {0};

	th_plan_port_texts(plan, &texts);
	return take_texts(&texts);
}

static json_t *describe_mounts(const struct th_plan *plan)
{
	struct th_strings texts = {0};

	th_plan_mount_texts(plan, &texts);
	return take_texts(&texts);
}

/* Words with commas between. */
static json_t *join_words(json_t *list)
{
	struct th_buf text;
	json_t *word, *doc;
	size_t i;

	th_buf_init(&text, 200);
	json_array_foreach(list, i, word)
	{
		th_buf_addf(
			&text, "%s%s", i ? "," : "", json_string_value(word));
	}
	doc = json_string(text.data ? text.data : "");
	th_buf_release(&text);
	json_decref(list);
	return doc;
}

static json_t *describe_stop(const struct th_plan *plan)
{
	const char *name = th_signal_name(plan->stop_signal);
	char grace[TH_TIME_TEXT];

	th_clock_exact_span(plan->grace_ms, grace);
	return json_sprintf("signal=%s,grace=%s", name ? name : "TERM", grace);
}

json_t *th_view_container_fully(const struct th_context *context,
	const struct th_container_row *row, bool reveal)
{
	json_t *doc = th_view_container(context, row);
	struct th_plan plan;
	struct th_error err = {0};
	char path[64], limit[TH_LIMIT_TEXT], log[TH_LOG_TEXT];
	int folder;

	snprintf(path, sizeof(path), "containers/%s", row->id);
	folder = openat(context->store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder >= 0 && th_plan_read(folder, &plan, &err) == 0) {
		json_t *settings;

		th_limit_format(&plan.limit, limit);
		th_log_settings_format(&plan.log, log);
		settings = json_pack("{s:s s:s s:o s:o s:o s:o s:s? "
				     "s:b s:o s:s s:o s:s s:s s:s s:o s:o}",
			"name", plan.name, "image", plan.image, "port",
			describe_ports_set(&plan), "mount",
			describe_mounts(&plan), "env",
			describe_env(&plan, reveal), "network",
			describe_networks(context, &plan), "user",
			plan.settings_user, "keep", plan.keep, "stop",
			describe_stop(&plan), "limit", limit, "device",
			th_json_from_strings(&plan.devices), "restart",
			row->restart[0] ? row->restart : "never", "probe",
			row->probe, "log", log, "allow",
			th_allow_to_json(plan.allow), "share",
			join_words(th_share_to_json(plan.share)));

		if (settings && plan.given)
			json_object_update_missing(settings, plan.given);
		json_object_set_new(doc, "settings", settings);
		th_plan_release(&plan);
	}
	th_close(&folder);
	return doc;
}

json_t *th_view_image(const struct th_image_row *row)
{
	return json_pack("{s:s s:s s:o s:s s:o s:I s:I s:I s:o s:I}", "kind",
		"image", "digest", row->digest, "names",
		th_json_from_strings(&row->tags), "platform", row->platform,
		"created", th_json_word(row->created), "size",
		(json_int_t)row->blob_bytes, "on-disk",
		(json_int_t)row->disk_bytes, "shared",
		(json_int_t)row->shared_bytes, "pulled",
		th_json_time(row->pulled_us), "containers",
		(json_int_t)row->containers);
}

/* The names of the other images that have the layer; digests where they have
 * none. */
static json_t *describe_sharers(const struct th_context *context,
	const struct th_image_row *row, const char *diff_id)
{
	struct th_strings names = {0};
	struct th_error ignored = {0}; /* what is known is told */
	json_t *list;

	th_image_state_sharers(
		context->store, diff_id, row->digest, &names, &ignored);
	list = th_json_from_strings(&names);
	th_strings_release(&names);
	return list;
}

static json_t *describe_layer(const struct th_context *context,
	const struct th_image_row *row, const struct th_image_layer *layer,
	json_t *made_by)
{
	return json_pack("{s:s s:s s:I s:I s:o s:o}", "digest", layer->blob,
		"diff-id", layer->diff_id, "size",
		(json_int_t)layer->size_bytes, "unpacked",
		(json_int_t)layer->tree_bytes, "shared-with",
		describe_sharers(context, row, layer->diff_id), "made-by",
		made_by);
}

/* A new reference; NULL where it cannot be read. */
static json_t *config_of(
	const struct th_context *context, const struct th_image_row *row)
{
	struct th_error ignored = {0}; /* then it is not shown */
	json_t *config = NULL;
	struct th_buf body;

	th_buf_init(&body, TH_MANIFEST_MAX);
	if (th_blob_read(context->store, row->config, &body, &ignored) == 0)
		th_json_parse(
			body.data, body.len, "the config", &config, &ignored);
	th_buf_release(&body);
	return config;
}

json_t *th_view_image_fully(
	const struct th_context *context, const struct th_image_row *row)
{
	json_t *doc = th_view_image(row), *list = json_array();
	json_t *config = config_of(context, row), *part;
	struct th_image_layer *layers = NULL;
	struct th_error ignored = {0}; /* then none are shown */
	size_t count = 0;

	th_image_state_layers(
		context->store, row->digest, &layers, &count, &ignored);
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list,
			describe_layer(context, row, &layers[i],
				th_view_made_by(config, i)));
	free(layers);
	json_object_set_new(doc, "layers", list);
	part = json_object_get(config, "config");
	json_object_set(doc, "config", part ? part : json_null());
	json_decref(config);
	return doc;
}
