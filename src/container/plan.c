#include "container/plan.h"

#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "container/plan_parts.h"

#define VERSION 2

/* ---- reading ---- */

int plan_copy(
	const json_t *doc, const char *key, char **copy, struct th_error *err)
{
	const char *text;
	int rc = th_json_string(doc, key, PLAN_NAME, &text, err);

	if (rc != 1)
		return rc;
	*copy = strdup(text);
	return *copy ? 1 : th_fail_memory(err);
}

/* What each version has in the same way. */
static int read_common(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	int64_t stop_signal = 15, grace_ms = 10000;

	if (plan_copy(doc, "name", &plan->name, err) < 0 ||
		plan_copy(doc, "image", &plan->image, err) < 0 ||
		plan_copy(doc, "network", &plan->network, err) < 0 ||
		plan_copy(doc, "user", &plan->settings_user, err) < 0 ||
		plan_copy(doc, "filter", &plan->filter, err) < 0 ||
		th_json_strings(doc, "device", PLAN_NAME, &plan->devices, err) <
			0 ||
		th_json_bool(doc, "unprivileged", PLAN_NAME,
			&plan->unprivileged, err) < 0 ||
		th_json_bool(doc, "own-users", PLAN_NAME, &plan->own_users,
			err) < 0 ||
		th_json_bool(doc, "users-given", PLAN_NAME, &plan->users_given,
			err) < 0 ||
		th_json_strings(doc, "layers", PLAN_NAME, &plan->layers, err) <
			0 ||
		th_json_strings(doc, "env", PLAN_NAME, &plan->env, err) < 0 ||
		th_json_strings(doc, "secret", PLAN_NAME, &plan->secrets, err) <
			0 ||
		th_json_bool(doc, "keep", PLAN_NAME, &plan->keep, err) < 0 ||
		th_json_int(doc, "stop-signal", PLAN_NAME, &stop_signal, err) <
			0 ||
		th_json_int(doc, "grace-ms", PLAN_NAME, &grace_ms, err) < 0)
		return -1;
	plan->given = json_incref(json_object_get(doc, "given"));
	plan->state = json_incref(json_object_get(doc, "state"));
	plan->stop_signal = (int)stop_signal;
	plan->grace_ms = (int)grace_ms;
	return 0;
}

static int read_networks(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	json_t *list = NULL, *one;
	size_t i;

	if (th_json_array(doc, "networks", PLAN_NAME, &list, err) < 0)
		return -1;
	json_array_foreach(list, i, one)
	{
		if (plan->network_count == TH_NETWORKS_MAX)
			return th_fail(err, TH_FAILED,
				PLAN_NAME " has too many networks");
		if (th_network_use_from_json(
			    one, &plan->networks[plan->network_count], err))
			return -1;
		plan->network_count++;
	}
	return 0;
}

static int read_mounts(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	json_t *list = NULL, *one;
	size_t i;

	if (th_json_array(doc, "mounts", PLAN_NAME, &list, err) < 0)
		return -1;
	plan->mounts = calloc(json_array_size(list) + 1, sizeof(*plan->mounts));
	if (!plan->mounts)
		return th_fail_memory(err);
	json_array_foreach(list, i, one)
	{
		if (th_mount_from_json(
			    one, &plan->mounts[plan->mount_count++], err))
			return -1;
	}
	return 0;
}

/* A set of words. */
static int read_set(const json_t *doc, const char *key,
	int (*add)(const char *word, int *set, struct th_error *err), int *set,
	struct th_error *err)
{
	struct th_strings words = {0};
	int rc = th_json_strings(doc, key, PLAN_NAME, &words, err);

	for (size_t i = 0; rc >= 0 && i < words.count; i++)
		rc = add(words.items[i], set, err);
	th_strings_release(&words);
	return rc < 0 ? -1 : 0;
}

static int read_types(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	json_t *ports = NULL, *limit = NULL, *log = NULL, *restart = NULL,
	       *probe = NULL;

	if (th_json_array(doc, "ports", PLAN_NAME, &ports, err) < 0 ||
		th_json_object(doc, "limit", PLAN_NAME, &limit, err) < 0 ||
		th_json_object(doc, "log", PLAN_NAME, &log, err) < 0 ||
		th_json_object(doc, "restart", PLAN_NAME, &restart, err) < 0 ||
		th_json_object(doc, "probe", PLAN_NAME, &probe, err) < 0 ||
		th_ports_from_json(
			ports, &plan->ports, &plan->port_count, err) ||
		read_mounts(doc, plan, err) || read_networks(doc, plan, err) ||
		read_set(doc, "allow", th_allow_add, &plan->allow, err) ||
		read_set(doc, "share", th_share_add, &plan->share, err) ||
		th_limit_from_json(limit, &plan->limit, err) ||
		th_log_settings_from_json(log, &plan->log, err) ||
		th_policy_from_json(restart, &plan->policy, err) ||
		th_probe_from_json(probe, &plan->probe, err))
		return -1;
	plan->has_life = true;
	return 0;
}

static int read_plan(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	int64_t version = 0;

	if (th_json_int(doc, "version", PLAN_NAME, &version, err) < 0)
		return -1;
	if (version < 1 || version > VERSION)
		return th_fail(err, TH_FAILED,
			PLAN_NAME
			" has a version that this tidyhull does not support");
	if (read_common(doc, plan, err) ||
		(version == 1 ? plan_read_texts(doc, plan, err)
			      : read_types(doc, plan, err)))
		return -1;
	if (!plan->name || !plan->network || !plan->layers.count)
		return th_fail(err, TH_FAILED, PLAN_NAME " is incomplete");
	return 0;
}

int th_plan_read(int folder, struct th_plan *plan, struct th_error *err)
{
	json_t *doc = NULL;
	int rc;

	memset(plan, 0, sizeof(*plan));
	rc = th_json_read_file(folder, PLAN_NAME, TH_PLAN_MAX, &doc, err);
	if (rc == 0)
		return th_fail(
			err, TH_FAILED, "the container has no " PLAN_NAME);
	if (rc < 0)
		return -1;
	rc = read_plan(doc, plan, err);
	json_decref(doc);
	if (rc)
		th_plan_release(plan);
	return rc;
}

/* ---- writing ---- */

static json_t *list_mounts(const struct th_plan *plan)
{
	json_t *list = json_array();

	for (size_t i = 0; i < plan->mount_count; i++)
		json_array_append_new(list, th_mount_to_json(&plan->mounts[i]));
	return list;
}

static json_t *list_networks(const struct th_plan *plan)
{
	json_t *list = json_array();

	for (size_t i = 0; i < plan->network_count; i++)
		json_array_append_new(
			list, th_network_use_to_json(&plan->networks[i]));
	return list;
}

int th_plan_write(int folder, const struct th_plan *plan, struct th_error *err)
{
	json_t *doc;
	int rc;

	doc = json_pack("{s:i s:s s:s? s:s s:o s:s? s:o s:o s:o s:o s:o s:b "
			"s:i s:i s:b s:b s:b s:s? s:o s:o s:o s:o s:o s:o s:o "
			"s:O? s:O?}",
		"version", VERSION, "name", plan->name, "image", plan->image,
		"network", plan->network, "networks", list_networks(plan),
		"user", plan->settings_user, "layers",
		th_json_from_strings(&plan->layers), "ports",
		th_ports_to_json(plan->ports, plan->port_count), "mounts",
		list_mounts(plan), "env", th_json_from_strings(&plan->env),
		"secret", th_json_from_strings(&plan->secrets), "keep",
		plan->keep, "stop-signal", plan->stop_signal, "grace-ms",
		plan->grace_ms, "unprivileged", plan->unprivileged, "own-users",
		plan->own_users, "users-given", plan->users_given, "filter",
		plan->filter, "limit", th_limit_to_json(&plan->limit), "log",
		th_log_settings_to_json(&plan->log), "share",
		th_share_to_json(plan->share), "device",
		th_json_from_strings(&plan->devices), "allow",
		th_allow_to_json(plan->allow), "restart",
		th_policy_to_json(&plan->policy), "probe",
		th_probe_to_json(&plan->probe), "given", plan->given, "state",
		plan->state);
	if (!doc)
		return th_fail_memory(err);
	rc = th_json_write_compact(folder, PLAN_NAME, doc, 0600, err);
	json_decref(doc);
	return rc;
}

int th_plan_mount_texts(const struct th_plan *plan, struct th_strings *texts)
{
	int rc = 0;

	for (size_t i = 0; rc == 0 && i < plan->mount_count; i++)
		rc = th_strings_take(texts, th_mount_format(&plan->mounts[i]));
	return rc;
}

int th_plan_port_texts(const struct th_plan *plan, struct th_strings *texts)
{
	return th_ports_format(plan->ports, plan->port_count, texts);
}

/* ---- giving back ---- */

void th_plan_release_texts(struct th_plan *plan)
{
	json_decref(plan->given);
	json_decref(plan->state);
	plan->given = plan->state = NULL;
	free(plan->image);
	plan->image = NULL;
	th_strings_release(&plan->layers);
	th_strings_release(&plan->env);
	th_strings_release(&plan->secrets);
	th_strings_release(&plan->devices);
	for (size_t i = 0; i < plan->mount_count; i++)
		th_mount_release(&plan->mounts[i]);
	free(plan->mounts);
	plan->mounts = NULL;
	plan->mount_count = 0;
}

void th_plan_release(struct th_plan *plan)
{
	th_plan_release_texts(plan);
	free(plan->name);
	free(plan->network);
	free(plan->settings_user);
	free(plan->filter);
	free(plan->ports);
	th_probe_release(&plan->probe);
	memset(plan, 0, sizeof(*plan));
}
