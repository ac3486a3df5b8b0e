/* The truth about containers whose keeper has gone. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "container/outcome.h"
#include "container/replace.h"
#include "container/lock.h"
#include "container/reach.h"
#include "container/stray_groups.h"
#include "network/names.h"
#include "network/network.h"
#include "network/pilot.h"
#include "network/publish.h"
#include "network/within.h"
#include "sandbox/cgroup.h"
#include "store/machine.h"

/* How long a keeper may take to say what it knows. */
#define ANSWER_MS 1000
/* How long a locked database is waited for, only to record what has happened.
 */
#define PATIENCE_MS 2000
/* Since when a lock without a holder must be there. */
#define LOCK_AGE_S 3

int th_container_folder(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	char path[64];
	int folder;

	snprintf(path, sizeof(path), "containers/%s", row->id);
	folder = openat(context->store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
		th_fail_sys(err, TH_FAILED, errno,
			"cannot open the container's folder");
	return folder;
}

void th_container_group(const struct th_context *context,
	const struct th_container_row *row, char path[TH_CGROUP_PATH])
{
	th_group_path_of(
		context->store, row->id, row->cgroup, path, TH_CGROUP_PATH);
}

struct work {
	struct th_store *store;
	const struct th_container_row *row;
	int (*work)(struct th_store *store, const struct th_container_row *row,
		struct th_error *err);
};

static int do_work(void *arg, struct th_error *err)
{
	const struct work *work = arg;

	return work->work(work->store, work->row, err);
}

/* An unprivileged user's are the pilot's; without one they are gone. */
static void at_bridges(struct th_store *store,
	int (*work)(struct th_store *store, const struct th_container_row *row,
		struct th_error *err),
	const struct th_container_row *row)
{
	struct work arg = {store, row, work};
	struct th_error ignored = {0}; /* the next look does it */
	struct th_pilot pilot;

	if (!store->unprivileged) {
		work(store, row, &ignored);
		return;
	}
	if (th_pilot_connect(store->run_fd, &pilot, &ignored) == 1) {
		th_error_clear(&ignored);
		th_within(pilot.netns, do_work, &arg, &ignored);
		th_pilot_close(&pilot);
	}
}

static int unplug(struct th_store *store, const struct th_container_row *row,
	struct th_error *err)
{
	(void)err;
	th_network_clean(store, row->id);
	return 0;
}

/* Nobody waits for it who has come for something else. */
static void tidy_now(struct th_store *store)
{
	struct th_error ignored = {0}; /* the next one does it */
	int patience_ms = store->patience_ms;

	store->patience_ms = 0;
	th_network_tidy(store, &ignored);
	store->patience_ms = patience_ms;
}

static int tidy(struct th_store *store, const struct th_container_row *row,
	struct th_error *err)
{
	(void)row;
	return th_network_tidy(store, err);
}

/* The process that carried a killed keeper's ports dies with it, but a moment
 * later: until then its ports are in use. */
static void await_ports(struct th_store *store, const char *id)
{
	const struct timespec step = {.tv_nsec = 2000000};
	struct th_port_row *rows = NULL;
	struct th_error ignored = {0}; /* then it does not wait */
	size_t count = 0;
	int tries = 0;

	if (th_state_ports(store->db, id, &rows, &count, &ignored))
		return;
	for (size_t i = 0; i < count && tries < 500; tries++) {
		struct th_port port = {.host_port = rows[i].host_port,
			.udp = strcmp(rows[i].protocol, "udp") == 0};
		char name[64];
		int pid;

		/* One that is just dying has no name any more. */
		if (!th_port_holder(&port, name, &pid) ||
			(*name && strncmp(name, "tidyhull", 8) != 0))
			i++;
		else
			nanosleep(&step, NULL);
	}
	free(rows);
}

/* Ends what may still live, and removes what the keeper would have. */
static void clean(const struct th_context *context,
	const struct th_container_row *row, bool rebooted)
{
	struct th_store *store = context->store;
	char group[TH_CGROUP_PATH], path[64];

	th_container_group(context, row, group);
	th_cgroup_remove(group, TH_CGROUP_LEVELS);
	snprintf(path, sizeof(path), "%s.sock", row->id);
	unlinkat(store->run_fd, path, 0);
	if (rebooted)
		return;
	if (th_network_is_shared(row->network))
		at_bridges(store, unplug, row);
	await_ports(store, row->id);
}

/* Those that are left learn that it has gone. */
static void tell_neighbours(
	const struct th_context *context, const char *network)
{
	if (th_network_is_shared(network))
		th_names_refresh(context->store, network, th_clock_now_us(),
			TH_NAMES_PATIENCE_MS);
}

/* What the keeper has written of the end of the run that the row is about,
 * before it told the state: 1, 0 where there is nothing. */
static int find_end(const struct th_context *context,
	const struct th_container_row *row, struct th_end *end)
{
	struct th_error ignored = {0}; /* then there is nothing */
	int folder = th_container_folder(context, row, &ignored);
	int rc = folder < 0 ? 0 : th_outcome_read(folder, end, &ignored);

	th_close(&folder);
	/* Of a later run where its start could not be recorded either. */
	return rc == 1 && end->started_us >= row->started_us &&
		end->change.to != row->state;
}

/* Of a keeper that lives, while the disk takes nothing. */
static int ask_for_end(const struct th_context *context,
	const struct th_container_row *row, struct th_end *end)
{
	struct th_error ignored = {0}; /* then nobody knows */
	struct pollfd one = {.fd = -1, .events = POLLIN};
	struct th_message message;
	int fds[TH_CHANNEL_FDS], rc = 0;

	if (th_channel_connect(
		    context->store->run_fd, row->id, &one.fd, &ignored) != 1)
		return 0;
	if (th_channel_send(one.fd, TH_SAY_STATE, NULL, 0, NULL, 0) == 0 &&
		poll(&one, 1, ANSWER_MS) == 1 &&
		th_channel_receive(one.fd, &message, fds, &ignored) == 1 &&
		message.type == TH_TELL_STATE)
		rc = th_end_parse(message.data, message.len, end);
	th_close(&one.fd);
	return rc == 1 && end->started_us >= row->started_us;
}

/* What is to be recorded of a container whose keeper has gone: the end that it
 * has left word of, or that it was lost. */
static void find_change(const struct th_context *context,
	const struct th_container_row *row, bool rebooted, struct th_end *end)
{
	if (find_end(context, row, end) && end->change.to == TH_STATE_STOPPED)
		return;
	memset(end, 0, sizeof(*end));
	end->change.to = TH_STATE_STOPPED;
	end->change.outcome =
		rebooted ? TH_OUTCOME_HOST_RESTARTED : TH_OUTCOME_KEEPER_LOST;
	end->change.cause.kind =
		rebooted ? TH_CAUSE_HOST_RESTARTED : TH_CAUSE_KEEPER_LOST;
	end->change.actor = context->actor;
}

static int discard(const struct th_context *context,
	const struct th_container_row *row, const struct th_change *change,
	int *lock, struct th_error *err)
{
	struct th_store *store = context->store;
	int rc;

	/* Its files go when the disk can be written again. */
	if (th_db_is_detached(store->db))
		return th_state_discard(store->db, row->id, change, err);
	if (th_store_hold(store, err))
		return -1;
	rc = th_store_unsettled(store, row->id, err);
	if (rc == 0)
		rc = th_state_discard(store->db, row->id, change, err);
	if (rc == 0 && th_store_remove_container(store, row->id, err) == 0) {
		/* The mark goes last: it is what its file is found by. */
		if (th_lock_drop(store->run_fd, row->id, lock))
			th_store_settled(store, row->id);
	}
	th_store_let_go(store);
	return rc;
}

/* With the container's lock held. */
static int record(const struct th_context *context,
	const struct th_container_row *row, int *lock, struct th_error *err)
{
	bool rebooted = strcmp(row->boot, context->store->boot_id) != 0;
	struct th_end end;

	find_change(context, row, rebooted, &end);
	/* Cleaned before it is recorded: a settler that is killed in between
	 * leaves the row as it was, and the next one cleans again. */
	clean(context, row, rebooted);
	if (row->keep)
		return th_state_change(
			context->store->db, row->id, &end.change, err);
	return discard(context, row, &end.change, lock, err);
}

/* A disk that takes no lock cannot start it either. */
static int take_lock(
	struct th_store *store, const char *id, int *lock, struct th_error *err)
{
	struct th_error own = {0};
	int rc = th_lock_take(store->run_fd, id, lock, &own);

	if (rc < 0 && th_db_is_detached(store->db))
		return 1;
	if (rc < 0)
		*err = own;
	return rc;
}

/* Its keeper is there: what it knows may be more than the state does. */
static void look_further(
	const struct th_context *context, struct th_container_row *row)
{
	struct th_end end;

	if (find_end(context, row, &end) ||
		(th_db_is_detached(context->store->db) &&
			ask_for_end(context, row, &end)))
		th_end_apply(&end, row);
}

static int settle_row(const struct th_context *context,
	struct th_container_row *row, struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_error ignored = {0}; /* asked at the next look */
	char network[TH_NETWORK_TEXT];
	int lock = -1, pid, rc;

	if (!th_container_is_up(row))
		return 0;
	if (th_lock_held(store->run_fd, row->id, &pid)) {
		look_further(context, row);
		return 0;
	}
	/* It may have ended properly since the row was read. */
	rc = th_state_get(store->db, row->id, row, err);
	if (rc == 0)
		row->id[0] = '\0'; /* a discarded one is gone */
	if (rc != 1 || !th_container_is_up(row))
		return rc < 0 ? -1 : 0;
	/* A lock that is missing is not a keeper that is: it may have been
	 * removed. A keeper that does not answer is there, too. */
	if (th_keeper_recall(store->run_fd, row->id, &ignored) != 0) {
		look_further(context, row);
		return 0;
	}
	rc = take_lock(store, row->id, &lock, err);
	if (rc <= 0)
		return rc;
	snprintf(network, sizeof(network), "%s", row->network);
	/* With the lock nobody else settles it, and no keeper starts it. */
	/* It may have ended properly since the row was read. */
	rc = th_state_get(store->db, row->id, row, err);
	if (rc == 1 && th_container_is_up(row))
		rc = record(context, row, &lock, err) ? -1 : 1;
	th_lock_drop(store->run_fd, row->id, &lock);
	if (rc == 1)
		rc = th_state_get(store->db, row->id, row, err);
	if (rc >= 0) {
		tell_neighbours(context, network);
		at_bridges(store, tidy, row);
	}
	if (rc == 0)
		row->id[0] = '\0'; /* a discarded one is gone */
	return rc < 0 ? -1 : 0;
}

int th_container_settle_row(const struct th_context *context,
	struct th_container_row *row, struct th_error *err)
{
	struct th_db *db = context->store->db;
	struct th_error own = {0}, ignored = {0}; /* then own counts */
	int rc;

	if (!th_container_is_up(row))
		return 0;
	th_db_set_patience(db, PATIENCE_MS);
	th_db_set_pretending(db, true);
	rc = settle_row(context, row, &own);
	th_db_set_patience(db, 0);
	/* What cannot be recorded is true all the same. */
	if (rc && th_db_not_now(&own) && th_db_detach(db, &ignored) == 0) {
		th_error_clear(&own);
		rc = settle_row(context, row, &own);
	}
	th_db_set_pretending(db, false);
	if (rc == 0)
		return 0;
	*err = own;
	return -1;
}

void th_container_clean_start(
	const struct th_context *context, const struct th_container_row *row)
{
	struct th_store *store = context->store;
	struct th_error ignored = {0}; /* the next look */

	clean(context, row, false);
	th_state_forget_start(store->db, row->id, &ignored);
	if (th_network_is_shared(row->network))
		at_bridges(store, tidy, row);
}

/* Of a keeper that was killed while it started its container: nothing says so
 * but what the state knows of it. */
static int settle_start(
	const struct th_context *context, const char *id, struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_container_row row;
	int lock = -1, pid, rc;

	if (th_lock_held(store->run_fd, id, &pid))
		return 0;
	rc = th_lock_take(store->run_fd, id, &lock, err);
	if (rc <= 0)
		return rc;
	/* With the lock nobody else settles it, and no keeper starts it. */
	rc = th_state_get(store->db, id, &row, err);
	if (rc == 1 && !th_container_is_up(&row))
		rc = th_state_began(store->db, id, err);
	else if (rc == 1)
		rc = 0;
	if (rc == 1) {
		th_container_clean_start(context, &row);
		rc = th_state_note(store->db, id,
			&(struct th_cause){.kind = TH_CAUSE_START_KILLED},
			context->actor, NULL, err);
	}
	th_lock_drop(store->run_fd, id, &lock);
	return rc < 0 ? -1 : 0;
}

static int settle_starts(const struct th_context *context, struct th_error *err)
{
	struct th_strings ids = {0};
	int rc = th_state_list_began(context->store->db, &ids, err);

	for (size_t i = 0; rc == 0 && i < ids.count; i++)
		rc = settle_start(context, ids.items[i], err);
	th_strings_release(&ids);
	return rc;
}

static int compare_ids(const void *one, const void *other)
{
	return strcmp(one, other);
}

/* A lock that nobody holds is what a keeper leaves that was killed before the
 * state knew of its start, or after it knew of the end: with a control group,
 * perhaps. */
static void settle_lock(const struct th_context *context, const char *id)
{
	struct th_store *store = context->store;
	struct th_error ignored = {0}; /* the next look tries again */
	struct th_container_row row;
	char path[64];
	int lock = -1, pid;

	if (th_lock_held(store->run_fd, id, &pid) ||
		th_lock_take(store->run_fd, id, &lock, &ignored) != 1)
		return;
	if (th_state_get(store->db, id, &row, &ignored) == 1 &&
		!th_container_is_up(&row)) {
		th_container_remove_groups(context, &row);
		snprintf(path, sizeof(path), "%s.sock", id);
		unlinkat(store->run_fd, path, 0);
	}
	th_lock_drop(store->run_fd, id, &lock);
}

/* Locks of others than those that run are few, mostly none. */
static void settle_locks(const struct th_context *context,
	const struct th_container_row *rows, size_t count)
{
	char(*up)[TH_ID_LENGTH + 1] = calloc(count + 1, sizeof(*up));
	int fd = openat(context->store->run_fd, ".",
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 || !up ? NULL : fdopendir(fd);
	struct dirent *entry;
	char id[TH_ID_LENGTH + 1];
	const time_t now = time(NULL);
	struct stat st;
	size_t ups = 0;

	for (size_t i = 0; up && i < count; i++) {
		if (th_container_is_up(&rows[i]))
			memcpy(up[ups++], rows[i].id, sizeof(*up));
	}
	if (up)
		qsort(up, ups, sizeof(*up), compare_ids);
	while (dir && (entry = readdir(dir))) {
		const char *name = entry->d_name;

		if (strlen(name) != TH_ID_LENGTH + 5 ||
			strcmp(name + TH_ID_LENGTH, ".lock") != 0)
			continue;
		snprintf(id, sizeof(id), "%.*s", TH_ID_LENGTH, name);
		/* A new one may be a keeper's that is about to lock it. */
		if (!bsearch(id, up, ups, sizeof(*up), compare_ids) &&
			fstatat(context->store->run_fd, name, &st,
				AT_SYMLINK_NOFOLLOW) == 0 &&
			now - st.st_ctime >= LOCK_AGE_S)
			settle_lock(context, id);
	}
	if (dir)
		closedir(dir);
	else
		th_close(&fd);
	free(up);
}

/* Of a build that was killed: nobody wants it any more. One that still runs is
 * about to end, as its keeper hears of it. */
static void settle_build(
	const struct th_context *context, struct th_container_row *row)
{
	struct th_error ignored = {0}; /* the next look tries again */

	if (row->build[0] && !th_container_is_up(row) &&
		!th_build_is_alive(context->store, row->build) &&
		th_container_remove(context, row, false, &ignored) == 0)
		row->id[0] = '\0';
}

static int settle_all(const struct th_context *context,
	struct th_container_row *rows, size_t *count, struct th_error *err)
{
	size_t left = 0;
	int rc = 0;

	for (size_t i = 0; i < *count && rc == 0; i++) {
		if (th_container_is_up(&rows[i]))
			rc = th_container_settle_row(context, &rows[i], err);
		if (rc == 0 && rows[i].id[0])
			settle_build(context, &rows[i]);
		if (rows[i].id[0])
			rows[left++] = rows[i];
	}
	*count = left;
	return rc;
}

static int read_rows(const struct th_context *context, bool all,
	struct th_container_row **rows, size_t *count, struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_error own = {0}, ignored = {0}; /* then own counts */

	if (settle_starts(context, &own) &&
		(!th_db_not_now(&own) || th_db_detach(store->db, &ignored))) {
		*err = own;
		return -1;
	}
	*rows = NULL;
	th_replacements_settle(context);
	if (all ? th_state_list(store->db, NULL, rows, count, err)
		: th_state_list_up(store->db, rows, count, err))
		return -1;
	if (settle_all(context, *rows, count, err)) {
		free(*rows);
		*rows = NULL;
		return -1;
	}
	if (!th_db_is_detached(store->db))
		settle_locks(context, *rows, *count);
	th_build_tidy(store);
	/* What is left of containers that are not even in the state. */
	th_error_clear(&ignored);
	if (!store->unprivileged && th_network_is_untidy(store))
		tidy_now(store);
	th_stray_groups_remove(context, *rows, *count);
	return 0;
}

int th_container_rows(const struct th_context *context,
	struct th_container_row **rows, size_t *count, struct th_error *err)
{
	return read_rows(context, true, rows, count, err);
}

int th_container_rows_up(const struct th_context *context,
	struct th_container_row **rows, size_t *count, size_t *others,
	struct th_error *err)
{
	int64_t all = 0;
	size_t used = 0;

	if (read_rows(context, false, rows, count, err))
		return -1;
	for (size_t i = 0; i < *count; i++) {
		if (th_container_is_up(&(*rows)[i]))
			(*rows)[used++] = (*rows)[i];
	}
	*count = used;
	if (th_state_count(context->store->db, &all, err)) {
		free(*rows);
		*rows = NULL;
		return -1;
	}
	*others = all > (int64_t)used ? (size_t)all - used : 0;
	return 0;
}

int th_container_settle(const struct th_context *context, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	size_t count = 0;
	int rc = read_rows(context, false, &rows, &count, err);

	free(rows);
	return rc;
}
