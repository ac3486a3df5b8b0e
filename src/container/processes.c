#include "container/processes.h"

#include <ctype.h>
#include <dirent.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "container/accounts.h"
#include "sandbox/cgroup.h"
#include "sandbox/idmap.h"

#define PROCESSES_MAX 100000
#define FILE_MAX (256 * 1024)

struct listing {
	struct th_process_row *rows; /* owned */
	size_t count;
	const char *passwd; /* the container's; or "" */
	int64_t boot_us; /* when the host was started */
	enum th_process_part part;
};

/* A file below /proc/PID; false where the process has gone. */
static bool read_proc(int pid, const char *name, struct th_buf *text)
{
	struct th_error ignored = {0}; /* it has just ended */
	char path[64];

	text->len = 0;
	snprintf(path, sizeof(path), "/proc/%d/%s", pid, name);
	return th_file_read(AT_FDCWD, path, text, &ignored) == 1 && text->len;
}

/* The value of a line "Name:\tvalue" of a status file. */
static const char *status_value(const struct th_buf *status, const char *name)
{
	size_t len = strlen(name);
	const char *at = status->data;

	while (at && *at) {
		if (strncmp(at, name, len) == 0)
			return at + len + strspn(at + len, " \t");
		at = strchr(at, '\n');
		at = at ? at + 1 : NULL;
	}
	return NULL;
}

/* The last of the IDs is that in the innermost namespace. */
static int innermost(const char *ids)
{
	int last = 0;

	while (ids && isdigit((unsigned char)*ids)) {
		char *end;

		last = (int)strtol(ids, &end, 10);
		ids = end + strspn(end, " \t");
	}
	return last;
}

static void name_user(const struct listing *listing, struct th_process_row *row)
{
	const char *at = listing->passwd;
	char number[16];

	snprintf(number, sizeof(number), "%u", row->uid);
	snprintf(row->user, sizeof(row->user), "%s", number);
	while (*at) {
		size_t name = strcspn(at, ":\n");
		const char *id =
			at[name] == ':' ? strchr(at + name + 1, ':') : NULL;
		size_t line = strcspn(at, "\n");

		if (id && id < at + line && name < sizeof(row->user) &&
			strncmp(id + 1, number, strlen(number)) == 0 &&
			id[1 + strlen(number)] == ':') {
			snprintf(row->user, sizeof(row->user), "%.*s",
				(int)name, at);
			return;
		}
		at += line + (at[line] == '\n');
	}
}

/* /proc/PID/stat: what stands behind the name, which may hold anything. */
static bool read_stat(
	const struct listing *listing, int pid, struct th_process_row *row)
{
	long ticks = sysconf(_SC_CLK_TCK), page = sysconf(_SC_PAGESIZE);
	uint64_t user = 0, system = 0, start = 0;
	struct th_buf text;
	const char *behind;
	bool good = false;
	long resident = 0;

	th_buf_init(&text, FILE_MAX);
	if (read_proc(pid, "stat", &text)) {
		behind = strrchr(text.data, ')');
		good = behind &&
			sscanf(behind,
				") %c %*d %*d %*d %*d %*d %*u %*u %*u %*u %*u "
				"%" SCNu64 " %" SCNu64
				" %*d %*d %*d %*d %*d %*d %" SCNu64 " %*u %ld",
				&row->state, &user, &system, &start,
				&resident) == 5;
	}
	th_buf_release(&text);
	if (!good || ticks <= 0)
		return false;
	row->cpu_us = (user + system) * 1000000 / (uint64_t)ticks;
	row->started_us =
		listing->boot_us + (int64_t)(start * 1000000 / (uint64_t)ticks);
	row->memory_bytes = (uint64_t)resident * (uint64_t)page;
	return true;
}

static void read_command(int pid, const char *name, struct th_process_row *row)
{
	struct th_buf text;

	th_buf_init(&text, FILE_MAX);
	if (read_proc(pid, "cmdline", &text)) {
		/* Servers that write a title there fill up the rest. */
		while (text.len > 1 &&
			(text.data[text.len - 1] == '\0' ||
				text.data[text.len - 1] == ' '))
			text.data[--text.len] = '\0';
		for (size_t i = 0; i < text.len; i++) {
			unsigned char byte = (unsigned char)text.data[i];

			/* What could steer a terminal is not shown. */
			if (byte < ' ' || byte == 127)
				text.data[i] = byte ? '?' : ' ';
		}
		snprintf(row->command, sizeof(row->command), "%s", text.data);
	} else if (name) {
		/* It has given up its arguments: its name is left. */
		snprintf(row->command, sizeof(row->command), "(%.*s)",
			(int)strcspn(name, "\n"), name);
	}
	th_buf_release(&text);
}

/* An ID of ours as the process's user namespace knows it. */
static unsigned int inside_id(int pid, unsigned int id)
{
	struct th_id_map lines[TH_ID_MAP_LINES];
	char path[64];
	size_t count;

	snprintf(path, sizeof(path), "/proc/%d/uid_map", pid);
	count = th_idmap_read(path, lines);
	for (size_t i = 0; i < count; i++) {
		if (id >= lines[i].outside &&
			id - lines[i].outside < lines[i].size)
			return lines[i].inside + (id - lines[i].outside);
	}
	return id;
}

/* 1 added, 0 gone, -1 without memory. */
static int add(struct listing *listing, int pid, struct th_error *err)
{
	struct th_process_row *rows, *row;
	struct th_buf status;
	const char *uid;
	int rc = 0;

	rows = realloc(listing->rows, (listing->count + 1) * sizeof(*rows));
	if (!rows)
		return th_fail_memory(err);
	listing->rows = rows;
	row = &rows[listing->count];
	memset(row, 0, sizeof(*row));
	row->pid = pid;
	if (listing->part == TH_PROCESS_FIGURES) {
		rc = read_stat(listing, pid, row);
		listing->count += rc;
		return rc;
	}
	th_buf_init(&status, FILE_MAX);
	if (read_proc(pid, "status", &status) && read_stat(listing, pid, row)) {
		uid = status_value(&status, "Uid:");
		row->inside_pid = innermost(status_value(&status, "NSpid:"));
		row->uid = inside_id(
			pid, uid ? (unsigned int)strtoul(uid, NULL, 10) : 0);
		name_user(listing, row);
		read_command(pid, status_value(&status, "Name:"), row);
		listing->count++;
		rc = 1;
	}
	th_buf_release(&status);
	return rc;
}

/* The members of the container's control group. 1, 0 where the host has none.
 */
static int list_group(const struct th_context *context,
	const struct th_container_row *row, struct listing *listing,
	struct th_error *err)
{
	char path[TH_CGROUP_PATH];
	struct th_cgroup group;
	pid_t *pids = NULL;
	size_t count = 0;
	int rc;

	th_container_group(context, row, path);
	th_cgroup_open(path, &group);
	rc = th_cgroup_processes(&group, &pids, &count, err);
	for (size_t i = 0; rc == 1 && i < count && i < PROCESSES_MAX; i++) {
		if (add(listing, pids[i], err) < 0)
			rc = -1;
	}
	free(pids);
	th_cgroup_close(&group);
	return rc;
}

/* All in the PID namespace of the first one. */
static int list_namespace(
	int first, struct listing *listing, struct th_error *err)
{
	char own[64], other[64], path[64];
	struct dirent *entry;
	ssize_t len;
	DIR *dir;
	int rc = 0;

	snprintf(path, sizeof(path), "/proc/%d/ns/pid", first);
	len = readlink(path, own, sizeof(own));
	dir = opendir("/proc");
	while (dir && rc >= 0 && (entry = readdir(dir))) {
		int pid = atoi(entry->d_name);

		snprintf(path, sizeof(path), "/proc/%d/ns/pid", pid);
		if (pid > 0 && len > 0 &&
			readlink(path, other, sizeof(other)) == len &&
			memcmp(own, other, (size_t)len) == 0)
			rc = add(listing, pid, err);
	}
	if (dir)
		closedir(dir);
	return rc < 0 ? -1 : 0;
}

static int compare(const void *a, const void *b)
{
	const struct th_process_row *one = a, *two = b;

	return one->inside_pid - two->inside_pid;
}

/* "btime" of /proc/stat, in seconds. */
static int64_t boot_time_us(void)
{
	struct th_error ignored = {0}; /* then not known */
	struct th_buf text;
	const char *at;
	int64_t time_us = 0;

	th_buf_init(&text, 4u << 20);
	if (th_file_read(AT_FDCWD, "/proc/stat", &text, &ignored) == 1) {
		at = strstr(text.data, "\nbtime ");
		if (at)
			time_us = strtoll(at + 7, NULL, 10) * 1000000;
	}
	th_buf_release(&text);
	return time_us;
}

int th_container_processes(const struct th_context *context,
	const struct th_container_row *row, enum th_process_part part,
	struct th_process_row **rows, size_t *count, struct th_error *err)
{
	struct listing listing = {.part = part};
	struct th_account_files accounts;
	struct th_error ignored = {0}; /* then numbers */
	int root = -1, rc;
	bool has_names;

	if (row->state != TH_STATE_RUNNING && row->state != TH_STATE_PAUSED) {
		th_fail(err, TH_FAILED,
			"container \"%s\" is not running: it is %s", row->name,
			th_state_word(row->state));
		return th_hint(err, "tidyhull why %s", row->name);
	}
	if (part == TH_PROCESS_ALL)
		listing.boot_us = boot_time_us();
	/* Without it users have numbers. */
	has_names = part == TH_PROCESS_ALL &&
		th_container_root(context, row, &root, NULL, &ignored) == 0 &&
		th_accounts_read(root, &accounts, &ignored) == 0;
	th_close(&root);
	listing.passwd = has_names ? accounts.passwd : "";
	rc = list_group(context, row, &listing, err);
	if (rc == 0)
		rc = list_namespace(row->pid, &listing, err);
	if (has_names)
		th_accounts_release(&accounts);
	if (rc < 0) {
		free(listing.rows);
		return -1;
	}
	if (listing.count && part == TH_PROCESS_ALL)
		qsort(listing.rows, listing.count, sizeof(*listing.rows),
			compare);
	*rows = listing.rows;
	*count = listing.count;
	return 0;
}
