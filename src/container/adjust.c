/* Other limits, another restart policy or probe, another name. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "container/bundle_linux.h"
#include "container/keeper_ask.h"
#include "container/container.h"
#include "container/plan.h"
#include "model/policy.h"
#include "model/probe.h"
#include "network/names.h"
#include "network/network.h"
#include "oci/bundle.h"
#include "store/machine.h"

/* Takes the limits out of an OCI "resources" object, and puts others in. */
static void rewrite_limits(json_t *resources, const struct th_limit *limit)
{
	static const char *const parts[] = {"memory", "cpu", "pids", "blockIO"};
	struct th_limit kept = *limit;
	int64_t *values[] = {&kept.memory_bytes, &kept.swap_bytes, &kept.cpu_us,
		&kept.io_weight};

	for (size_t i = 0; i < 4; i++)
		json_object_del(resources, parts[i]);
	for (size_t i = 0; i < 4; i++)
		*values[i] = *values[i] < 0 ? 0 : *values[i];
	th_limit_write(&kept, resources);
}

static int keep_limits(int folder, struct th_plan *plan,
	const struct th_limit *limit, struct th_error *err)
{
	json_t *doc = NULL, *part;
	int rc;

	rc = th_json_read_file(folder, "config.json", TH_BUNDLE_MAX, &doc, err);
	if (rc == 1) {
		part = json_object_get(
			json_object_get(doc, "linux"), "resources");
		rewrite_limits(part, limit);
		plan->limit = *limit;
		rc = th_json_write_file(
			     folder, "config.json", doc, 0600, false, err) ||
				th_plan_write(folder, plan, err)
			? -1
			: 0;
	}
	json_decref(doc);
	return rc;
}

static int ask_to_adjust(const struct th_context *context,
	const struct th_container_row *row, const struct th_limit *change,
	const char *text, struct th_error *err)
{
	json_t *resources;

	if (row->state != TH_STATE_RUNNING && row->state != TH_STATE_PAUSED)
		return 0;
	resources = json_object();
	th_limit_write(change, resources);
	return keeper_ask(context, row, TH_ACT_KILL, TH_SAY_ADJUST,
		json_pack("{s:o s:s s:s}", "resources", resources, "limit",
			text, "actor", context->actor),
		err);
}

int th_container_adjust(const struct th_context *context,
	const struct th_container_row *row, const struct th_strings *changes,
	char text[TH_LIMIT_TEXT], struct th_error *err)
{
	struct th_limit change = {0}, whole;
	struct th_plan plan = {0};
	int folder, rc = -1;

	folder = th_container_folder(context, row, err);
	/* Two at once would each forget what the other has changed. */
	if (folder < 0)
		goto out;
	if (flock(folder, LOCK_EX)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot lock the container's folder");
		goto out;
	}
	if (th_plan_read_whole(folder, row, &plan, err))
		goto out;
	whole = plan.limit;
	for (size_t i = 0; i < changes->count; i++) {
		struct th_error ignored = {0}; /* was parsed before */

		if (th_limit_parse(changes->items[i], &whole, err))
			goto out;
		/* What it lacks alone stands in the others. */
		th_limit_parse(changes->items[i], &change, &ignored);
	}
	if (change.swap_bytes > 0)
		change.memory_bytes = whole.memory_bytes;
	th_limit_format(&whole, text);
	if (ask_to_adjust(context, row, &change, text, err) == 0)
		rc = keep_limits(folder, &plan, &whole, err);
out:
	th_plan_release(&plan);
	th_close(&folder);
	return rc;
}

/* What stands in the state and in the plan: a new name, or policy and probe
 * (NULL: as they were). */
struct both {
	const char *name, *restart, *probe;
	/* What the last two mean. */
	const struct th_policy *policy;
	struct th_probe *asked; /* taken over */
	const struct th_cause *cause;
};

static int change_state(const struct th_context *context,
	const struct th_container_row *row, const struct both *both,
	struct th_error *err)
{
	struct th_db *db = context->store->db;

	if (both->name)
		return th_state_rename(
			db, row->id, both->name, context->actor, err);
	return th_state_adjust(db, row->id, both->restart, both->probe, err) ||
			th_state_note(db, row->id, both->cause, context->actor,
				NULL, err)
		? -1
		: 0;
}

static int change_plan(
	struct th_plan *plan, const struct both *both, struct th_error *err)
{
	char *copy = both->name ? strdup(both->name) : NULL;

	if (both->name && !copy)
		return th_fail_memory(err);
	if (copy) {
		free(plan->name);
		plan->name = copy;
	}
	if (both->policy)
		plan->policy = *both->policy;
	if (both->asked) {
		th_probe_release(&plan->probe);
		plan->probe = *both->asked;
		memset(both->asked, 0, sizeof(*both->asked));
	}
	return 0;
}

/* Both, or none: the plan is written before the state is committed, and as it
 * was where that fails. */
static int change_both(const struct th_context *context,
	const struct th_container_row *row, const struct both *both,
	struct th_error *err)
{
	struct th_db *db = context->store->db;
	struct th_plan before = {0}, plan = {0};
	struct th_error ignored = {0}; /* the first one counts */
	int folder = th_container_folder(context, row, err), rc = -1;

	if (folder < 0)
		return -1;
	if (flock(folder, LOCK_EX)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot lock the container's folder");
		goto out;
	}
	if (th_plan_read_whole(folder, row, &before, err) ||
		th_plan_read_whole(folder, row, &plan, err))
		goto out;
	if (th_db_begin_durable(db, row->keep, err))
		goto out;
	rc = change_state(context, row, both, err) ||
			change_plan(&plan, both, err) ||
			th_plan_write(folder, &plan, err)
		? -1
		: 0;
	rc = th_db_end(db, rc, err);
	if (rc)
		th_plan_write(folder, &before, &ignored);
out:
	th_plan_release(&plan);
	th_plan_release(&before);
	th_close(&folder);
	return rc;
}

int th_container_adjust_life(const struct th_context *context,
	const struct th_container_row *row, const char *restart,
	const char *probe, struct th_error *err)
{
	struct th_policy policy;
	struct th_probe parsed = {0};
	struct th_cause cause = {.kind = restart && probe
			? TH_CAUSE_POLICY_AND_PROBE
			: restart ? TH_CAUSE_POLICY
				  : TH_CAUSE_PROBE};
	int rc;

	if ((restart && th_policy_parse(restart, &policy, err)) ||
		(probe && th_probe_parse(probe, &parsed, err)))
		return -1;
	snprintf(cause.text, sizeof(cause.text), "%s",
		restart		? restart
			: probe ? probe
				: "");
	snprintf(cause.more, sizeof(cause.more), "%s", probe ? probe : "");
	rc = change_both(context, row,
		&(struct both){.restart = restart,
			.probe = probe,
			.policy = restart ? &policy : NULL,
			.asked = probe ? &parsed : NULL,
			.cause = &cause},
		err);
	th_probe_release(&parsed);
	if (rc)
		return -1;
	if (!th_container_is_up(row))
		return 0;
	/* One that has just ended finds it at its next start. */
	if (keeper_ask(context, row, TH_ACT_STOP, TH_SAY_RELOAD, json_object(),
		    err))
		th_error_clear(err);
	return 0;
}

int th_container_rename(const struct th_context *context,
	const struct th_container_row *row, const char *name,
	struct th_error *err)
{
	if (!th_name_valid(name)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a valid name", name);
		return th_hint(err,
			"use up to 63 letters, digits, dots, dashes and "
			"underscores");
	}
	if (change_both(context, row, &(struct both){.name = name}, err))
		return -1;
	if (th_network_is_shared(row->network))
		th_names_refresh(context->store, row->network,
			th_clock_now_us(), TH_NAMES_PATIENCE_MS);
	return 0;
}
