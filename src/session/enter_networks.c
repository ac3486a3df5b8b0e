#include "session/enter_networks.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

#include "base/file.h"
#include "container/scope.h"
#include "network/pilot.h"
#include "sandbox/enter.h"

#define NOTICE_BYTES 1024

static void tell(const struct th_hull *hull, const char *text)
{
	if (hull->options.notice)
		hull->options.notice(hull->options.owner, text);
}

/* Said once: whoever has a single ID should know why some images fail. */
static void tell_single(const struct th_hull *hull)
{
	char *mark = th_format("%s/single-id", hull->root), text[NOTICE_BYTES];
	int fd = mark
		? open(mark, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600)
		: -1;

	snprintf(text, sizeof(text),
		"%s has no subordinate IDs: all files of an image will appear "
		"owned by root\n  tidyhull doctor explains how the "
		"administrator can assign some",
		hull->caller.name);
	if (fd >= 0)
		tell(hull, text);
	th_close(&fd);
	free(mark);
}

/* True where any container of the store is on a network; or is not known. */
static bool has_networks(const struct th_hull *hull)
{
	char *path = th_format("%s/state.db", hull->root);
	struct th_error ignored = {0}; /* then it is not known */
	struct th_db *db = NULL;
	bool has = true;

	if (path && access(path, F_OK) == 0 &&
		th_db_open(path, 1, &db, &ignored) == 0)
		has = th_state_has_networks(db);
	th_db_close(db);
	free(path);
	return has;
}

/* On "none" and "host" a container needs nothing that other containers have. */
static bool needs_networks(const struct th_hull *hull)
{
	enum th_needs_networks needs = hull->options.networks;

	return needs == TH_NEEDS_NETWORKS ||
		(needs == TH_NEEDS_NETWORKS_OF_STORE && has_networks(hull));
}

static void tell_way_out(
	const struct th_hull *hull, const struct th_pilot *pilot)
{
	char text[NOTICE_BYTES];

	if (pilot->hello.way_out)
		return;
	snprintf(text, sizeof(text),
		"containers on your networks cannot reach the outside: %.400s",
		pilot->hello.reason);
	tell(hull, text);
}

/* As containers do, where systemd would end what belongs to the login. */
static void outlive_login(
	const struct th_hull *hull, const struct th_pilot *pilot)
{
	struct th_error ignored = {0}; /* it ends with the login then */
	char id[32];

	snprintf(id, sizeof(id), "networks-%d", (int)pilot->pid);
	if (th_scope_wanted(th_hull_has_bus(hull)))
		th_scope_move(
			pilot->pid, id, "networks of containers", &ignored);
}

/* It stays until this program and its keepers are gone. */
static int start_pilot(const struct th_hull *hull, int run,
	struct th_pilot *pilot, struct th_error *err)
{
	int rc = th_pilot_start(hull->options.pilot, run, pilot, err);

	if (rc == 0) {
		tell_way_out(hull, pilot);
		outlive_login(hull, pilot);
	}
	return rc;
}

int enter_networks(struct th_hull *hull, struct th_error *err)
{
	const struct th_caller *caller = &hull->caller;
	struct th_pilot pilot;
	bool single = false;
	int run = -1, lock = -1, rc = -1;

	if (!caller->unprivileged || hull->options.look)
		return 0;
	if (th_dir_make(hull->root, 0700, err) ||
		th_dir_make(hull->run, 0700, err))
		return -1;
	run = open(hull->run, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	lock = th_pilot_lock(run, err);
	if (lock < 0)
		goto out;
	rc = th_pilot_connect(run, &pilot, err);
	if (rc == 1) {
		rc = th_user_join(pilot.users, err);
		goto out;
	}
	if (rc == 0)
		rc = th_user_enter(
			caller->name, caller->uid, caller->gid, &single, err);
	if (rc == 0 && needs_networks(hull))
		rc = start_pilot(hull, run, &pilot, err);
out:
	/* The connection is for the life of this program. */
	th_close(&lock);
	th_close(&run);
	if (rc == 0 && single)
		tell_single(hull);
	return rc < 0 ? -1 : 0;
}
