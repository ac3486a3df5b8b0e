#include "runtime/record.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"

#define VERSION 1
#define NAME "state.json"

const char *status_word(enum th_runtime_status status)
{
	static const char *const words[] = {
		"creating", "created", "running", "stopped"};

	return words[status];
}

int record_check_id(const char *id, struct th_error *err)
{
	static const char letters[] = "abcdefghijklmnopqrstuvwxyz"
				      "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
				      "_.+-";
	size_t len = strlen(id);

	if (len >= 1 && len <= 200 && strspn(id, letters) == len &&
		id[0] != '.' && id[0] != '-')
		return 0;
	th_fail(err, TH_USAGE, "\"%.100s\" is not a valid container ID", id);
	return th_hint(err, "use up to 200 letters, digits and . _ + -");
}

uint64_t process_start(pid_t pid)
{
	struct th_error ignored = {0}; /* then it has gone */
	uint64_t start = 0;
	char path[48], state = 'X';
	struct th_buf text;
	const char *behind;

	snprintf(path, sizeof(path), "/proc/%d/stat", (int)pid);
	th_buf_init(&text, 65536);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		behind = strrchr(text.data, ')');
		if (behind)
			sscanf(behind,
				") %c %*d %*d %*d %*d %*d %*u %*u %*u %*u %*u "
				"%*u %*u %*d %*d %*d %*d %*d %*d %" SCNu64,
				&state, &start);
	}
	th_buf_release(&text);
	return state == 'Z' || state == 'X' ? 0 : start;
}

void read_boot(char boot[40])
{
	struct th_error ignored = {0}; /* then not known */
	struct th_buf text;

	th_buf_init(&text, 64);
	boot[0] = '\0';
	if (th_file_read(AT_FDCWD, "/proc/sys/kernel/random/boot_id", &text,
		    &ignored) == 1)
		snprintf(boot, 40, "%.36s", text.data);
	th_buf_release(&text);
}

/* It listens until its program has taken over. */
static int connect_start(int folder)
{
	struct sockaddr_un address = {.sun_family = AF_UNIX};
	char path[TH_FD_PATH];
	int fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);

	snprintf(address.sun_path, sizeof(address.sun_path), "%s",
		th_fd_path(folder, "start.sock", path));
	if (fd >= 0 &&
		connect(fd, (struct sockaddr *)&address, sizeof(address)))
		th_close(&fd);
	return fd;
}

static void find_status(struct record *record)
{
	char boot[40];

	read_boot(boot);
	record->status = TH_RUNTIME_STOPPED;
	/* A PID alone proves nothing: it is used again, and after a reboot at
	 * once. The start time tells one process from the next. */
	if (strcmp(boot, record->boot) != 0 || record->pid <= 0 ||
		process_start(record->pid) != record->started)
		return;
	record->connection = connect_start(record->folder);
	record->status = record->connection >= 0 ? TH_RUNTIME_CREATED
						 : TH_RUNTIME_RUNNING;
	/* It may have died while it was asked. */
	if (record->status == TH_RUNTIME_RUNNING &&
		process_start(record->pid) != record->started)
		record->status = TH_RUNTIME_STOPPED;
}

/* 1, 0 where there is no state yet, -1. */
static int read_state(struct record *record, struct th_error *err)
{
	const char *bundle = NULL, *group = NULL, *boot = NULL;
	int64_t version = 0, pid = 0, started = 0;
	json_t *doc = NULL;
	int rc = th_json_read_file(record->folder, NAME, 1 << 20, &doc, err);

	if (rc != 1)
		return rc;
	if (th_json_int(doc, "version", NAME, &version, err) < 0 ||
		th_json_string(doc, "bundle", NAME, &bundle, err) < 0 ||
		th_json_string(doc, "cgroup", NAME, &group, err) < 0 ||
		th_json_string(doc, "boot", NAME, &boot, err) < 0 ||
		th_json_int(doc, "pid", NAME, &pid, err) < 0 ||
		th_json_strings(doc, "groups", NAME, &record->made, err) < 0 ||
		th_json_int(doc, "started", NAME, &started, err) < 0)
		rc = -1;
	else if (version != VERSION || !bundle || !group || !boot)
		rc = th_fail(err, TH_FAILED,
			"the container's " NAME " has another version");
	if (rc == 1) {
		record->bundle_path = strdup(bundle);
		rc = record->bundle_path ? 1 : th_fail_memory(err);
		snprintf(record->group, sizeof(record->group), "%s", group);
		snprintf(record->boot, sizeof(record->boot), "%s", boot);
		record->pid = (pid_t)pid;
		record->started = (uint64_t)started;
	}
	json_decref(doc);
	return rc;
}

int record_write(const struct record *record, struct th_error *err)
{
	json_t *doc = json_pack("{s:i s:s s:s s:s s:I s:I s:o}", "version",
		VERSION, "bundle", record->bundle_path, "cgroup", record->group,
		"boot", record->boot, "pid", (json_int_t)record->pid, "started",
		(json_int_t)record->started, "groups",
		th_json_from_strings(&record->made));
	int rc = doc ? th_json_write_file(
			       record->folder, NAME, doc, 0600, false, err)
		     : th_fail_memory(err);

	json_decref(doc);
	return rc;
}

/* 0 held, 1 another operation holds it, -1. */
static int lock(struct record *record, bool wait, struct th_error *err)
{
	record->lock = openat(
		record->folder, "lock", O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	if (record->lock < 0 ||
		flock(record->lock, LOCK_EX | (wait ? 0 : LOCK_NB))) {
		if (record->lock >= 0 && errno == EWOULDBLOCK)
			return 1;
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot lock the container's state");
	}
	return 0;
}

int record_open(const char *dir, const char *id, bool wait,
	struct record *record, struct th_error *err)
{
	char *path;
	int rc, held;

	memset(record, 0, sizeof(*record));
	record->folder = record->lock = record->connection = -1;
	th_resources_init(&record->bundle.resources);
	if (record_check_id(id, err))
		return -1;
	path = th_format("%s/%s", dir, id);
	if (!path)
		return th_fail_memory(err);
	record->folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	free(path);
	if (record->folder < 0)
		return th_fail(err, TH_NOT_FOUND,
			"there is no container \"%s\" in %.200s", id, dir);
	held = lock(record, wait, err);
	if (held < 0)
		return -1;
	rc = read_state(record, err);
	if (rc < 0)
		return -1;
	if (rc == 0 || record->pid == 0) {
		/* Its creation goes on, or has died on the way. */
		record->status =
			held ? TH_RUNTIME_CREATING : TH_RUNTIME_STOPPED;
		if (!record->bundle_path)
			record->bundle_path = strdup("");
		return record->bundle_path ? 0 : th_fail_memory(err);
	}
	find_status(record);
	return th_bundle_read(record->folder, &record->bundle, err);
}

void record_release(struct record *record)
{
	th_close(&record->connection);
	th_close(&record->lock);
	th_close(&record->folder);
	free(record->bundle_path);
	record->bundle_path = NULL;
	th_strings_release(&record->made);
	th_bundle_release(&record->bundle);
}
