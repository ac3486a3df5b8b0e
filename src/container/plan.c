#include "container/plan.h"

#include <stdlib.h>
#include <string.h>

#include "base/json.h"

#define NAME "plan.json"
#define VERSION 1

static int read_ports(struct th_plan *plan, struct th_error *err)
{
	for (size_t i = 0; i < plan->port_texts.count; i++) {
		if (th_port_parse(plan->port_texts.items[i], &plan->ports,
			    &plan->port_count, err))
			return -1;
	}
	return 0;
}

static int read_copy(
	const json_t *doc, const char *key, char **copy, struct th_error *err)
{
	const char *text;
	int rc = th_json_string(doc, key, NAME, &text, err);

	if (rc != 1)
		return rc;
	*copy = strdup(text);
	return *copy ? 1 : th_fail_memory(err);
}

static int read_members(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	int64_t version = 0, stop_signal = 15, grace_ms = 10000;

	if (th_json_int(doc, "version", NAME, &version, err) < 0)
		return -1;
	if (version != VERSION)
		return th_fail(err, TH_FAILED,
			NAME
			" has a version that this tidyhull does not support");
	if (read_copy(doc, "name", &plan->name, err) < 0 ||
		read_copy(doc, "image", &plan->image, err) < 0 ||
		read_copy(doc, "network", &plan->network, err) < 0 ||
		read_copy(doc, "user", &plan->settings_user, err) < 0 ||
		read_copy(doc, "filter", &plan->filter, err) < 0 ||
		read_copy(doc, "limit", &plan->limit, err) < 0 ||
		read_copy(doc, "log", &plan->log, err) < 0 ||
		read_copy(doc, "share", &plan->share, err) < 0 ||
		th_json_strings(doc, "device", NAME, &plan->devices, err) < 0 ||
		th_json_strings(doc, "allow", NAME, &plan->allow, err) < 0 ||
		th_json_bool(doc, "unprivileged", NAME, &plan->unprivileged,
			err) < 0 ||
		th_json_bool(doc, "own-users", NAME, &plan->own_users, err) <
			0 ||
		th_json_bool(doc, "users-given", NAME, &plan->users_given,
			err) < 0 ||
		th_json_bool(doc, "any-address", NAME, &plan->any_address,
			err) < 0 ||
		th_json_strings(doc, "layers", NAME, &plan->layers, err) < 0 ||
		th_json_strings(
			doc, "networks", NAME, &plan->network_texts, err) < 0 ||
		th_json_strings(doc, "port", NAME, &plan->port_texts, err) <
			0 ||
		th_json_strings(doc, "mount", NAME, &plan->mount_texts, err) <
			0 ||
		th_json_strings(doc, "env", NAME, &plan->env, err) < 0 ||
		th_json_strings(doc, "secret", NAME, &plan->secrets, err) < 0 ||
		th_json_bool(doc, "keep", NAME, &plan->keep, err) < 0 ||
		th_json_int(doc, "stop-signal", NAME, &stop_signal, err) < 0 ||
		th_json_int(doc, "grace-ms", NAME, &grace_ms, err) < 0 ||
		read_ports(plan, err))
		return -1;
	plan->given = json_incref(json_object_get(doc, "given"));
	plan->state = json_incref(json_object_get(doc, "state"));
	plan->stop_signal = (int)stop_signal;
	plan->grace_ms = (int)grace_ms;
	if (!plan->name || !plan->network || !plan->layers.count)
		return th_fail(err, TH_FAILED, NAME " is incomplete");
	return 0;
}

int th_plan_read(int folder, struct th_plan *plan, struct th_error *err)
{
	json_t *doc = NULL;
	int rc;

	memset(plan, 0, sizeof(*plan));
	rc = th_json_read_file(folder, NAME, TH_PLAN_MAX, &doc, err);
	if (rc == 0)
		return th_fail(err, TH_FAILED, "the container has no " NAME);
	if (rc < 0)
		return -1;
	rc = read_members(doc, plan, err);
	json_decref(doc);
	if (rc)
		th_plan_release(plan);
	return rc;
}

int th_plan_write(int folder, const struct th_plan *plan, struct th_error *err)
{
	json_t *doc;
	int rc;

	doc = json_pack("{s:i s:s s:s? s:s s:s? s:o? s:o? s:o? s:o? s:o? s:b "
			"s:i s:i s:b s:b s:b s:b s:s? s:s? s:s? s:s? s:o? s:o? "
			"s:o? s:O? s:O?}",
		"version", VERSION, "name", plan->name, "image", plan->image,
		"network", plan->network, "user", plan->settings_user, "layers",
		th_json_from_strings(&plan->layers), "port",
		th_json_from_strings(&plan->port_texts), "mount",
		th_json_from_strings(&plan->mount_texts), "env",
		th_json_from_strings(&plan->env), "secret",
		th_json_from_strings(&plan->secrets), "keep", plan->keep,
		"stop-signal", plan->stop_signal, "grace-ms", plan->grace_ms,
		"unprivileged", plan->unprivileged, "any-address",
		plan->any_address, "own-users", plan->own_users, "users-given",
		plan->users_given, "filter", plan->filter, "limit", plan->limit,
		"log", plan->log, "share", plan->share, "device",
		th_json_from_strings(&plan->devices), "allow",
		th_json_from_strings(&plan->allow), "networks",
		th_json_from_strings(&plan->network_texts), "given",
		plan->given, "state", plan->state);
	if (!doc)
		return th_fail_memory(err);
	rc = th_json_write_file(folder, NAME, doc, 0600, false, err);
	json_decref(doc);
	return rc;
}

void th_plan_release_texts(struct th_plan *plan)
{
	json_decref(plan->given);
	json_decref(plan->state);
	plan->given = plan->state = NULL;
	free(plan->image);
	plan->image = NULL;
	th_strings_release(&plan->layers);
	th_strings_release(&plan->port_texts);
	th_strings_release(&plan->network_texts);
	th_strings_release(&plan->mount_texts);
	th_strings_release(&plan->env);
	th_strings_release(&plan->secrets);
}

void th_plan_release(struct th_plan *plan)
{
	th_plan_release_texts(plan);
	free(plan->name);
	free(plan->network);
	free(plan->settings_user);
	free(plan->filter);
	free(plan->limit);
	free(plan->log);
	free(plan->share);
	th_strings_release(&plan->devices);
	th_strings_release(&plan->allow);
	free(plan->ports);
	memset(plan, 0, sizeof(*plan));
}
