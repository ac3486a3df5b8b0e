/* The row of a container from what lies in its folder: its plan, and how its
 * last run ended. */
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "base/json.h"
#include "check/parts.h"
#include "container/networks.h"
#include "container/outcome.h"
#include "container/plan.h"
#include "container/reach.h"
#include "container/volumes.h"

#define WHAT "its plan"
#define ANSWER_MS 10000

static int take(const json_t *doc, const char *key, char *to, size_t size,
	struct th_error *err)
{
	const char *text = NULL;

	if (th_json_string(doc, key, WHAT, &text, err) < 0)
		return -1;
	snprintf(to, size, "%s", text ? text : "");
	return 0;
}

static int read_row(const struct th_plan *plan, const char *id,
	struct th_container_row *row, struct th_error *err)
{
	char *probe;

	memset(row, 0, sizeof(*row));
	if (!plan->state)
		return th_fail(err, TH_FAILED,
			"its plan is of a former version, and does not say "
			"enough");
	snprintf(row->id, sizeof(row->id), "%s", id);
	snprintf(row->name, sizeof(row->name), "%s", plan->name);
	snprintf(row->image_name, sizeof(row->image_name), "%s",
		plan->image ? plan->image : "");
	snprintf(row->network, sizeof(row->network), "%s", plan->network);
	row->keep = plan->keep;
	th_policy_format(&plan->policy, row->restart);
	probe = th_probe_format(&plan->probe);
	snprintf(row->probe, sizeof(row->probe), "%s", probe ? probe : "");
	free(probe);
	return take(plan->state, "image-digest", row->image, sizeof(row->image),
		       err) ||
			take(plan->state, "command", row->command,
				sizeof(row->command), err) ||
			take(plan->state, "aliases", row->aliases,
				sizeof(row->aliases), err) ||
			th_json_int(plan->state, "created", WHAT,
				&row->created_us, err) < 0
		? -1
		: 0;
}

static int record_uses(struct th_store *store, const struct th_plan *plan,
	const char *id, struct th_error *err)
{
	struct th_settings settings = {.network_count = plan->network_count};
	int rc;

	memcpy(settings.networks, plan->networks, sizeof(plan->networks));
	rc = networks_record(store, &settings, id, err);
	for (size_t i = 0; rc == 0 && i < plan->mount_count; i++) {
		const struct th_mount_setting *mount = &plan->mounts[i];

		if (mount->volume)
			rc = th_volume_use(
				store, mount->volume, id, mount->target, err);
	}
	th_settings_release(&settings);
	return rc;
}

static int add(const struct checking *checking, const struct th_plan *plan,
	struct th_container_row *row, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	const char *actor = checking->context->actor;
	struct th_error own = {0};
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	rc = th_state_add(store->db, row, actor, &own);
	/* Its name has been given to another one since. */
	if (rc && own.code == TH_IN_USE) {
		snprintf(row->name, sizeof(row->name), "%s", row->id);
		rc = th_state_add(store->db, row, actor, err);
	} else if (rc) {
		*err = own;
	}
	if (rc == 0)
		rc = record_uses(store, plan, row->id, err);
	return th_db_end(store->db, rc, err);
}

/* False also where the keeper is just leaving. */
static bool ask_keeper(struct th_store *store, const char *id)
{
	struct pollfd one = {.fd = -1, .events = POLLIN};
	struct th_error ignored = {0}; /* then it is none */
	struct th_message message;
	int fds[TH_CHANNEL_FDS];
	bool told;

	told = th_keeper_lives(store->run_fd, id) &&
		th_keeper_reach(store->run_fd, id, &one.fd, &ignored) == 1 &&
		th_channel_send(one.fd, TH_SAY_TAKE_UP, NULL, 0, NULL, 0) ==
			0 &&
		poll(&one, 1, ANSWER_MS) == 1 &&
		th_channel_receive(one.fd, &message, fds, &ignored) == 1 &&
		message.type == TH_TELL_DONE;
	th_close(&one.fd);
	return told;
}

int check_restore(
	const struct checking *checking, const char *id, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	struct th_error ignored = {0}; /* as if there were none */
	struct th_container_row row;
	struct th_plan plan = {0};
	struct th_end end;
	int folder, rc = -1;

	snprintf(row.id, sizeof(row.id), "%s", id);
	folder = th_container_folder(checking->context, &row, err);
	if (folder >= 0 && th_plan_read(folder, &plan, err) == 0 &&
		read_row(&plan, id, &row, err) == 0)
		rc = add(checking, &plan, &row, err);
	/* What it does, or how its last run ended, is told, too. */
	if (rc == 0 && !ask_keeper(store, id) &&
		th_outcome_read(folder, &end, &ignored) == 1 &&
		end.change.to == TH_STATE_STOPPED)
		th_state_change(store->db, id, &end.change, &ignored);
	th_plan_release(&plan);
	th_close(&folder);
	return rc;
}
