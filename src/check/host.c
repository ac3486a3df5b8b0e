/* What runs, and what the host has of this store. */
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"
#include "check/parts.h"
#include "container/lock.h"
#include "container/reach.h"
#include "container/stray_groups.h"
#include "network/network.h"
#include "sandbox/cgroup.h"
#include "store/machine.h"

/* As long as one may take to end, on a host with much to do. */
#define PATIENCE_MS 5000
#define STEP_MS 20

/* "ID.lock" or "ID.sock"; false for other files. */
static bool read_id(const char *name, char id[TH_ID_LENGTH + 1])
{
	size_t len = strlen(name);

	if (len != TH_ID_LENGTH + 5 ||
		(strcmp(name + TH_ID_LENGTH, ".lock") != 0 &&
			strcmp(name + TH_ID_LENGTH, ".sock") != 0))
		return false;
	snprintf(id, TH_ID_LENGTH + 1, "%.*s", TH_ID_LENGTH, name);
	return true;
}

/* What is on its way to its end is no finding. */
static bool stays(bool (*is_there)(struct th_store *store, const char *id),
	struct th_store *store, const char *id)
{
	const struct timespec step = {.tv_nsec = STEP_MS * 1000000L};

	for (int i = 0; i < PATIENCE_MS / STEP_MS; i++) {
		if (!is_there(store, id))
			return false;
		nanosleep(&step, NULL);
	}
	return is_there(store, id);
}

/* A keeper takes its container's row away before it ends itself. */
static bool keeper_is_there(struct th_store *store, const char *id)
{
	return th_keeper_lives(store->run_fd, id);
}

/* Between a keeper's moment with its bridge and the end of that it may wait for
 * the lock of the networks. */
static bool bridge_is_there(struct th_store *store, const char *id)
{
	(void)id;
	return th_network_is_untidy(store);
}

static int check_file(
	struct checking *checking, const char *name, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	struct th_container_row row;
	char id[TH_ID_LENGTH + 1];
	int rc;

	if (!read_id(name, id))
		return 0;
	rc = th_state_get(store->db, id, &row, err);
	/* One that is free is taken by the next start. */
	if (rc)
		return rc < 0 ? -1 : 0;
	if (th_keeper_lives(store->run_fd, id)) {
		if (strstr(name, ".lock") && stays(keeper_is_there, store, id))
			check_found(checking, TH_PART_RUN, id, "",
				"its keeper runs, and the state does not know "
				"it");
		return 0;
	}
	/* The keeper may have taken it away since it was listed. */
	if (faccessat(store->run_fd, name, F_OK, AT_SYMLINK_NOFOLLOW))
		return 0;
	check_found(checking, TH_PART_RUN, name,
		checking->mend && unlinkat(store->run_fd, name, 0) == 0
			? "removed"
			: "",
		"it is left of a container that is gone");
	return 0;
}

static int check_run(struct checking *checking, struct th_error *err)
{
	int fd = openat(checking->context->store->run_fd, ".",
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!dir) {
		th_close(&fd);
		return th_fail(
			err, TH_FAILED, "cannot read the folder of what runs");
	}
	while (rc == 0 && (entry = readdir(dir)))
		rc = check_file(checking, entry->d_name, err);
	closedir(dir);
	return rc;
}

/* Groups of containers that do not run. */
static int check_groups(struct checking *checking, struct th_error *err)
{
	const struct th_context *context = checking->context;
	struct th_container_row *rows = NULL;
	struct th_strings strays = {0};
	char place[TH_CGROUP_PATH];
	size_t count = 0;

	if (th_state_list(context->store->db, NULL, &rows, &count, err))
		return -1;
	th_stray_groups(context, rows, count, &strays);
	for (size_t i = 0; i < strays.count; i++) {
		th_group_path(context->store, strays.items[i], place);
		check_found(checking, TH_PART_HOST, place,
			checking->mend &&
					th_cgroup_remove(
						place, TH_CGROUP_LEVELS)
				? "removed"
				: "",
			"a control group of a container that does not run");
	}
	th_strings_release(&strays);
	free(rows);
	return 0;
}

static void check_devices(struct checking *checking)
{
	struct th_store *store = checking->context->store;
	struct th_error ignored = {0}; /* then it is not mended */

	if (store->unprivileged || !stays(bridge_is_there, store, NULL))
		return;
	check_found(checking, TH_PART_HOST, "networks",
		checking->mend && th_network_tidy(store, &ignored) == 0
			? "removed"
			: "",
		"devices or rules of a network that no container is on");
}

int check_host(struct checking *checking, struct th_error *err)
{
	/* What a look at containers mends is no finding. */
	if (checking->mend && th_container_settle(checking->context, err))
		return -1;
	if (check_run(checking, err) || check_groups(checking, err))
		return -1;
	check_devices(checking);
	return 0;
}
