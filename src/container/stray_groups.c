#include "container/stray_groups.h"

#include <string.h>

#include "base/file.h"
#include "container/lock.h"
#include "container/reach.h"
#include "sandbox/cgroup.h"
#include "store/machine.h"

static bool is_up(
	const struct th_container_row *rows, size_t count, const char *id)
{
	for (size_t i = 0; i < count; i++) {
		if (strcmp(rows[i].id, id) == 0)
			return th_container_is_up(&rows[i]);
	}
	return false;
}

static size_t count_up(const struct th_container_row *rows, size_t count)
{
	size_t up = 0;

	for (size_t i = 0; i < count; i++)
		up += th_container_is_up(&rows[i]);
	return up;
}

/* By whichever store: what would be killed has to be nobody's, though another
 * one may have drawn the same tag. */
static bool is_served(const struct th_store *store, const char *id)
{
	int pid, pidfd;

	if (th_lock_held(store->run_fd, id, &pid))
		return true;
	pidfd = th_keeper_find(-1, id);
	if (pidfd < 0)
		return false;
	th_close(&pidfd);
	return true;
}

int th_stray_groups(const struct th_context *context,
	const struct th_container_row *rows, size_t count,
	struct th_strings *strays)
{
	const struct th_store *store = context->store;
	struct th_strings names = {0};
	char place[TH_CGROUP_PATH];
	size_t most = 0;
	int rc;

	th_group_path(store, "", place);
	/* Where there are no more than run, none is looked at. */
	rc = th_cgroup_children(place, count_up(rows, count), &names, &most);
	/* A keeper has its lock before it makes a group, and until that is
	 * gone. */
	for (size_t i = 0; i < names.count; i++) {
		const char *id = names.items[i];

		if (strlen(id) == TH_ID_LENGTH && !is_up(rows, count, id) &&
			!is_served(store, id))
			th_strings_add(strays, id);
	}
	th_strings_release(&names);
	return rc == 1 ? (int)most : -1;
}

void th_stray_groups_remove(const struct th_context *context,
	const struct th_container_row *rows, size_t count)
{
	const struct th_store *store = context->store;
	struct th_strings strays = {0};
	char place[TH_CGROUP_PATH];
	int found = th_stray_groups(context, rows, count, &strays);

	for (size_t i = 0; i < strays.count; i++) {
		th_group_path(store, strays.items[i], place);
		th_cgroup_remove_step(place, TH_CGROUP_LEVELS);
	}
	if (found == 0) {
		/* Whoever makes the first one just now makes it again. */
		th_group_path(store, "", place);
		th_cgroup_remove_step(place, 1);
	}
	th_strings_release(&strays);
}
