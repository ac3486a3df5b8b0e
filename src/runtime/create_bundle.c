/* The create operation (runtime.md, "Create"). */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/file.h"
#include "runtime/owner.h"
#include "runtime/record.h"
#include "sandbox/filter.h"
#include "sandbox/run_hooks.h"
#include "sandbox/idmap.h"
#include "sandbox/listener.h"
#include "sandbox/sandbox.h"

/* What is being made. */
struct making {
	const struct th_runtime_options *options;
	struct record record;
	struct th_buf config; /* config.json as it was read */
	struct th_cgroup cgroup;
	struct th_buf filter;
	struct th_sandbox sandbox;
	int listener;
	bool folder_made;
};

/* IDs are the folder's own: with the same one below another folder, another
 * container must not share the group, and end with this one. */
static uint32_t tag_of(const struct stat *st)
{
	return (uint32_t)st->st_ino * 2654435761u ^ (uint32_t)st->st_dev;
}

/* Once that folder is there. */
static int name_group(struct making *making, struct th_error *err)
{
	const struct th_runtime_options *options = making->options;
	struct record *record = &making->record;
	const char *path = record->bundle.cgroup_path;
	struct stat st;

	if (path) {
		snprintf(record->group, sizeof(record->group), "%s%.500s",
			path[0] == '/' ? "" : "/tidyhull/", path);
		return 0;
	}
	if (stat(options->dir, &st))
		return th_fail_sys(err, TH_FAILED, errno, "cannot look at %s",
			options->dir);
	snprintf(record->group, sizeof(record->group),
		"/tidyhull-oci-%08x/%.200s", tag_of(&st), options->id);
	return 0;
}

static int read_bundle(struct making *making, struct th_error *err)
{
	const struct th_runtime_options *options = making->options;
	struct record *record = &making->record;
	bool terminal;
	char *path;
	int rc;

	path = th_format("%s/config.json", options->bundle);
	if (!path)
		return th_fail_memory(err);
	rc = th_file_read(AT_FDCWD, path, &making->config, err);
	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the bundle %.300s has no config.json",
			options->bundle);
	free(path);
	if (rc != 1 ||
		th_bundle_parse(making->config.data, making->config.len,
			&record->bundle, err))
		return -1;
	for (char *const *pair = options->env; pair && *pair; pair++) {
		if (th_strings_set(&record->bundle.process.env, *pair))
			return th_fail_memory(err);
	}
	if (options->entered &&
		(th_idmap_from_caller(
			 "/proc/self/uid_map", &record->bundle.uids, err) ||
			th_idmap_from_caller("/proc/self/gid_map",
				&record->bundle.gids, err)))
		return -1;
	terminal = record->bundle.process.terminal;
	if (terminal && !options->console_socket[0] && !options->console) {
		th_fail(err, TH_USAGE,
			"the container wants a terminal, but there is no one "
			"to receive it");
		return th_hint(err, "use --console-socket PATH");
	}
	if (!terminal && options->console_socket[0])
		return th_fail(err, TH_USAGE,
			"there is a console socket, but the container has no "
			"terminal");
	record->bundle_path = strdup(options->bundle);
	return record->bundle_path ? 0 : th_fail_memory(err);
}

static bool is_of_another_boot(const struct th_runtime_options *options)
{
	struct record record;
	struct th_error ignored = {0}; /* then the ID is taken */
	char boot[40];
	bool is = false;

	read_boot(boot);
	if (record_open(options->dir, options->id, false, &record, &ignored) ==
		0)
		is = *boot && *record.boot && strcmp(boot, record.boot) != 0;
	record_release(&record);
	return is;
}

/* A run removes its container itself, and its guard where that is killed. With
 * both gone, or after the host's restart, it is nobody's: its ID is free again,
 * as for a job that an engine starts once more on a node that was lost. */
static bool free_lost(const struct th_runtime_options *options)
{
	struct th_error ignored = {0}; /* then the ID is taken */
	int lock = -1;
	bool freed;

	freed = (owner_is_lost(options->dir, options->id, &lock) ||
			is_of_another_boot(options)) &&
		th_runtime_delete(
			options->dir, options->id, true, NULL, &ignored) == 0;
	th_close(&lock);
	return freed;
}

/* 1, 0 where the ID is taken, -1. It is the making of the name that decides
 * between two that want the same. */
static int claim(const struct th_runtime_options *options, const char *path,
	struct th_error *err)
{
	if (options->run)
		return owner_make_folder(options->dir, options->id,
			options->run, options->run_lock, err);
	if (mkdir(path, 0700) == 0)
		return 1;
	if (errno == EEXIST)
		return 0;
	return th_fail_sys(err, TH_FAILED, errno, "cannot create %s", path);
}

static int make_folder(struct making *making, struct th_error *err)
{
	const struct th_runtime_options *options = making->options;
	struct record *record = &making->record;
	char *path;
	int rc;

	if (th_dir_make(options->dir, 0700, err))
		return -1;
	path = th_format("%s/%s", options->dir, options->id);
	if (!path)
		return th_fail_memory(err);
	rc = claim(options, path, err);
	if (rc == 0 && options->run && free_lost(options))
		rc = claim(options, path, err);
	if (rc != 1) {
		free(path);
		return rc < 0 ? -1
			      : th_fail(err, TH_IN_USE,
					"the ID \"%s\" is taken by another "
					"container",
					options->id);
	}
	making->folder_made = true;
	record->folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	free(path);
	record->lock = openat(
		record->folder, "lock", O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	if (record->lock < 0 || flock(record->lock, LOCK_EX))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot lock the container's state");
	/* What was read is what counts, whatever the file says later
	 * (runtime.md, "Lifecycle"). */
	return th_file_replace(record->folder, "config.json",
		making->config.data, making->config.len, 0600, false, err);
}

static int listen_for_start(struct making *making, struct th_error *err)
{
	struct sockaddr_un address = {.sun_family = AF_UNIX};
	char path[TH_FD_PATH];
	int fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);

	snprintf(address.sun_path, sizeof(address.sun_path), "%s",
		th_fd_path(making->record.folder, "start.sock", path));
	if (fd < 0 || bind(fd, (struct sockaddr *)&address, sizeof(address)) ||
		listen(fd, 8)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot create the socket for start");
		th_close(&fd);
		return -1;
	}
	making->listener = fd;
	return 0;
}

static int make_process(struct making *making, struct th_error *err)
{
	struct record *record = &making->record;
	struct th_sandbox_options options = {.bundle = &record->bundle,
		.id = making->options->id,
		.bundle_path = making->options->bundle,
		.root_mount = -1,
		.cgroup = &making->cgroup,
		.stdio = {0, 1, 2},
		.listener = making->listener};

	if (record->bundle.seccomp.given &&
		th_filter_compile(
			&record->bundle.seccomp, &making->filter, err))
		return -1;
	options.filter = making->filter.len ? &making->filter : NULL;
	/* Written ahead: whoever removes what a killed creation has left finds
	 * the group by it. */
	th_cgroup_missing(record->group, &record->made);
	if (record_write(record, err))
		return -1;
	if (th_cgroup_make(record->group, &record->bundle.resources,
		    !th_idmap_is_own(), &making->cgroup, err))
		return -1;
	th_strings_release(&record->made);
	for (size_t i = 0; i < making->cgroup.made.count; i++) {
		if (th_strings_add(&record->made, making->cgroup.made.items[i]))
			return th_fail_memory(err);
	}
	if (th_sandbox_create(&options, &making->sandbox, err))
		return -1;
	record->pid = making->sandbox.pid;
	return th_sandbox_ready(&making->sandbox, err);
}

static int hand_over_console(struct making *making, struct th_error *err)
{
	const struct th_process *process = &making->record.bundle.process;
	struct winsize size = {
		.ws_row = process->rows, .ws_col = process->columns};

	if (!process->terminal)
		return 0;
	if (size.ws_row || size.ws_col)
		ioctl(making->sandbox.console, TIOCSWINSZ, &size);
	if (making->options->console) {
		*making->options->console = making->sandbox.console;
		making->sandbox.console = -1;
		return 0;
	}
	return th_send_descriptor(making->options->console_socket,
		"/dev/pts/ptmx", making->sandbox.console, err);
}

/* A pipe or a device, /dev/null as well, is written, not replaced. */
static int write_pid_file(const struct making *making, struct th_error *err)
{
	const char *path = making->options->pid_file;
	char text[16];
	int len = snprintf(text, sizeof(text), "%d", (int)making->sandbox.pid);
	int fd, rc;

	if (!path[0])
		return 0;
	if (!th_file_is_stream(path))
		return th_file_replace(
			AT_FDCWD, path, text, (size_t)len, 0644, false, err);
	fd = open(path, O_WRONLY | O_NONBLOCK | O_NOCTTY | O_CLOEXEC);
	rc = fd < 0 || th_write_all(fd, text, (size_t)len)
		? th_fail_write(err, errno, "cannot write %.300s", path)
		: 0;
	th_close(&fd);
	return rc;
}

static void undo(struct making *making)
{
	const struct th_runtime_options *options = making->options;
	struct record *record = &making->record;
	struct th_error ignored = {0}; /* the first one counts */
	bool born = record->pid > 0;
	char *state;

	th_sandbox_abandon(&making->sandbox);
	th_cgroup_close(&making->cgroup);
	th_cgroup_remove_made(&record->made);
	if (born) {
		state = th_hooks_state(&record->bundle, options->id, "stopped",
			0, options->bundle);
		if (state)
			th_hooks_run(&record->bundle, TH_HOOK_POSTSTOP, state,
				&ignored);
		free(state);
	}
	if (making->folder_made)
		owner_remove_folder(options->dir, options->id, &ignored);
}

static void tell_warnings(
	const struct th_strings *warnings, struct th_error *warning)
{
	for (size_t i = 0; i < warnings->count; i++) {
		size_t used = strlen(warning->msg);

		warning->code = TH_FAILED;
		snprintf(warning->msg + used, sizeof(warning->msg) - used,
			"%s%s", used ? "; " : "", warnings->items[i]);
	}
}

int th_runtime_create(const struct th_runtime_options *options,
	struct th_error *warning, struct th_error *err)
{
	struct making making = {
		.options = options, .cgroup = TH_CGROUP_NONE, .listener = -1};
	int rc = -1;

	making.record.folder = making.record.lock = -1;
	making.record.connection = -1;
	making.sandbox.pidfd = making.sandbox.channel = -1;
	making.sandbox.console = making.sandbox.status = -1;
	th_resources_init(&making.record.bundle.resources);
	th_buf_init(&making.config, TH_BUNDLE_MAX);
	th_buf_init(&making.filter, TH_FILTER_MAX);
	if (record_check_id(options->id, err) || read_bundle(&making, err) ||
		make_folder(&making, err) || name_group(&making, err) ||
		listen_for_start(&making, err) || make_process(&making, err) ||
		hand_over_console(&making, err))
		goto out;
	read_boot(making.record.boot);
	making.record.started = process_start(making.sandbox.pid);
	if (record_write(&making.record, err) || write_pid_file(&making, err) ||
		th_sandbox_leave_waiting(&making.sandbox, err))
		goto out;
	tell_warnings(&making.record.bundle.process.warnings, warning);
	rc = 0;
out:
	if (rc)
		undo(&making);
	else
		th_cgroup_close(&making.cgroup);
	th_close(&making.listener);
	th_close(&making.sandbox.pidfd);
	th_close(&making.sandbox.channel);
	th_close(&making.sandbox.console);
	th_buf_release(&making.config);
	th_buf_release(&making.filter);
	record_release(&making.record);
	return rc;
}
