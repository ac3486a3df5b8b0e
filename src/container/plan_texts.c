/* Plans of version 1, which kept settings as the texts that were given. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "container/plan_parts.h"

/* A text of one setting behind those of a list. */
static int add_text(const json_t *doc, const char *key, struct th_strings *list,
	struct th_error *err)
{
	const char *text = NULL;

	if (th_json_string(doc, key, PLAN_NAME, &text, err) < 0)
		return -1;
	return text && th_strings_add(list, text) ? th_fail_memory(err) : 0;
}

static int read_settings(
	const json_t *doc, struct th_settings *settings, struct th_error *err)
{
	const json_t *state = json_object_get(doc, "state");

	if (th_json_strings(
		    doc, "port", PLAN_NAME, &settings->port_texts, err) < 0 ||
		th_json_strings(doc, "mount", PLAN_NAME, &settings->mount_texts,
			err) < 0 ||
		th_json_strings(doc, "networks", PLAN_NAME,
			&settings->network_texts, err) < 0 ||
		th_json_strings(doc, "allow", PLAN_NAME, &settings->allow_texts,
			err) < 0 ||
		add_text(doc, "limit", &settings->limit_texts, err) ||
		th_json_string(doc, "share", PLAN_NAME, &settings->share_text,
			err) < 0 ||
		th_json_string(
			doc, "log", PLAN_NAME, &settings->log_text, err) < 0 ||
		th_json_string(state, "restart", PLAN_NAME,
			&settings->restart_text, err) < 0 ||
		th_json_string(state, "probe", PLAN_NAME, &settings->probe_text,
			err) < 0)
		return -1;
	return 0;
}

/* The plan has what the settings mean; these keep nothing of it. */
static void hand_over(struct th_settings *settings, struct th_plan *plan)
{
	plan->ports = settings->ports;
	plan->port_count = settings->port_count;
	plan->mounts = settings->mounts;
	plan->mount_count = settings->mount_count;
	memcpy(plan->networks, settings->networks, sizeof(plan->networks));
	plan->network_count = settings->network_count;
	plan->limit = settings->limit;
	plan->allow = settings->allow;
	plan->share = settings->share;
	plan->log = settings->log;
	plan->policy = settings->policy;
	plan->probe = settings->probe;
	plan->has_life = plan->state != NULL;
	settings->ports = NULL;
	settings->mounts = NULL;
	settings->port_count = settings->mount_count = 0;
	memset(&settings->probe, 0, sizeof(settings->probe));
}

int plan_read_texts(
	const json_t *doc, struct th_plan *plan, struct th_error *err)
{
	struct th_settings settings = {.base = "/"};
	struct th_problems problems = {0};
	int rc = read_settings(doc, &settings, err);

	if (rc == 0)
		th_settings_parse(&settings, &problems);
	if (problems.count) {
		*err = problems.list[0];
		rc = -1;
	}
	/* One that names none is on the usual one, or shares another's. */
	if (rc == 0)
		hand_over(&settings, plan);
	if (plan->network && !th_network_is_shared(plan->network))
		plan->network_count = 0;
	th_problems_release(&problems);
	th_settings_release(&settings);
	return rc;
}

int th_plan_read_whole(int folder, const struct th_container_row *row,
	struct th_plan *plan, struct th_error *err)
{
	if (th_plan_read(folder, plan, err))
		return -1;
	if (plan->has_life)
		return 0;
	th_probe_release(&plan->probe);
	if (th_policy_parse(row->restart, &plan->policy, err) ||
		th_probe_parse(row->probe, &plan->probe, err)) {
		th_plan_release(plan);
		return -1;
	}
	plan->has_life = true;
	return 0;
}
