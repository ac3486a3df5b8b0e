#include "e2e/world.h"

#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <net/if.h>
#include <sched.h>
#include <signal.h>
#include <stdarg.h>
#include <stdint.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "e2e/harness.h"
#include "sandbox/cgroup.h"
#include "store/database.h"

#define REGISTRIES_MAX 12

static struct {
	pid_t pid;
} registries[REGISTRIES_MAX];
static size_t registry_count;
static char images[600];
static char base[128]; /* the folder of all tests */
static size_t mounts_before;
/* A new network inherits the host's forwarding. */
static int forwarding_before;

static void die(const char *what)
{
	fprintf(stderr, "e2e: %s: %s\n", what, strerror(errno));
	exit(1);
}

static void loopback_up(void)
{
	struct ifreq request = {0};
	int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);

	memcpy(request.ifr_name, "lo", 3);
	request.ifr_flags = IFF_UP;
	if (fd < 0 || ioctl(fd, SIOCSIFFLAGS, &request))
		die("loopback");
	close(fd);
}

/* The first process of the namespace: it only reaps, as an init does. */
static void reap_until(pid_t child)
{
	int status;
	pid_t pid;

	while ((pid = wait(&status)) > 0 || errno == EINTR) {
		if (pid == child)
			_exit(WIFEXITED(status) ? WEXITSTATUS(status) : 1);
	}
	_exit(1);
}

/* A file of the host with a line more, in this mount namespace only. */
static void add_line(const char *path, const char *line)
{
	struct th_error err = {0};
	char name[64];
	struct th_buf text;

	th_buf_init(&text, 1 << 20);
	th_file_read(AT_FDCWD, path, &text, &err);
	th_buf_adds(&text, line);
	snprintf(name, sizeof(name), "/run/%s", strrchr(path, '/') + 1);
	th_error_clear(&err);
	if (th_file_replace(
		    AT_FDCWD, name, text.data, text.len, 0644, false, &err) ||
		(access(path, F_OK) && errno == ENOENT) ||
		mount(name, path, NULL, MS_BIND, NULL))
		die(path);
	th_buf_release(&text);
}

/* A host without those files gets them here, on a copy of its folder. */
static void own_etc(void)
{
	if (access("/etc/subuid", F_OK) == 0 &&
		access("/etc/subgid", F_OK) == 0)
		return;
	as_root("cp -a /etc /run/etc");
	as_root("touch /run/etc/subuid /run/etc/subgid");
	if (mount("/run/etc", "/etc", NULL, MS_BIND, NULL))
		die("/etc");
}

static void make_user(void)
{
	const char *const files[] = {"cgroup.procs", "cgroup.subtree_control"};
	const char *const wanted[] = {"+memory", "+pids", "+cpu", "+io"};
	int fd, missing = 0; /* this host's affair */
	char path[240];

	if (th_cgroup_mount()) {
		/* Others may test at the same time. */
		snprintf(world_group, sizeof(world_group),
			"%s/hull-e2e-%" PRId64, th_cgroup_mount(),
			th_clock_now_us());
		/* Where there are controllers, they are for the group too. */
		snprintf(path, sizeof(path), "%s/cgroup.subtree_control",
			th_cgroup_mount());
		fd = open(path, O_WRONLY | O_CLOEXEC);
		for (size_t i = 0; fd >= 0 && i < 4; i++)
			missing += write(fd, wanted[i], strlen(wanted[i])) < 0;
		th_close(&fd);
		if (mkdir(world_group, 0755) ||
			chown(world_group, world_user, world_user))
			die(world_group);
	}
	for (size_t i = 0; world_group[0] && i < 2; i++) {
		snprintf(path, sizeof(path), "%s/%s", world_group, files[i]);
		if (chown(path, world_user, world_user))
			die(path);
	}
	(void)missing;
	own_etc();
	add_line("/etc/passwd", WORLD_USER_NAME ":x:4711:4711::/:/bin/sh\n");
	add_line("/etc/group", WORLD_USER_NAME ":x:4711:\n");
	add_line("/etc/subuid", WORLD_USER_NAME ":200000:65536\n");
	add_line("/etc/subgid", WORLD_USER_NAME ":200000:65536\n");
}

void world_enter(const char *build)
{
	int status;
	pid_t pid;

	/* Who runs tests in the background has niced them: what they ask for
	 * must not depend on it. */
	setpriority(PRIO_PROCESS, 0, 0);
	snprintf(world_build, sizeof(world_build), "%s", build);
	snprintf(images, sizeof(images), "%s/demo-images", build);
	if (unshare(CLONE_NEWNS | CLONE_NEWPID | CLONE_NEWNET | CLONE_NEWUTS |
		    CLONE_NEWIPC))
		die("namespaces");
	pid = fork();
	if (pid > 0) {
		while (waitpid(pid, &status, 0) < 0 && errno == EINTR)
			;
		exit(WIFEXITED(status) ? WEXITSTATUS(status) : 1);
	}
	/* A signal to the group of processes must not leave the namespace: make
	 * and the shell that called it are in the group of the caller. */
	if (setsid() < 0 || prctl(PR_SET_PDEATHSIG, SIGKILL))
		die("session");
	/* Apart from the host's, and then shared among its own, as systemd has
	 * it. */
	if (mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL) ||
		mount(NULL, "/", NULL, MS_REC | MS_SHARED, NULL) ||
		mount("proc", "/proc", "proc", 0, NULL) ||
		mount("run", "/run", "tmpfs", 0, NULL))
		die("mounts");
	loopback_up();
	if (world_user)
		make_user();
	snprintf(base, sizeof(base), "/var/tmp/hull-e2e-XXXXXX");
	if (!mkdtemp(base) || chmod(base, 0755))
		die(base);
	pid = fork();
	if (pid > 0)
		reap_until(pid);
}

/* ---- what there is, to be compared ---- */

static size_t count_lines(const char *path)
{
	struct th_error err = {0};
	struct th_buf buf;
	size_t lines = 0;

	th_buf_init(&buf, 16 << 20);
	th_file_read(AT_FDCWD, path, &buf, &err);
	for (const char *at = buf.data; *at; at++)
		lines += *at == '\n';
	th_buf_release(&buf);
	return lines;
}

/* Processes other than the first, this one and the registries. */
static int strangers(char names[256])
{
	DIR *proc = opendir("/proc");
	struct dirent *entry;
	int count = 0;

	names[0] = '\0';
	while (proc && (entry = readdir(proc))) {
		int pid = atoi(entry->d_name);
		bool known = pid <= 1 || pid == getpid();
		char path[64], state[512] = "";
		FILE *file;

		for (size_t i = 0; i < registry_count; i++)
			known |= pid == registries[i].pid;
		if (known)
			continue;
		snprintf(path, sizeof(path), "/proc/%d/stat", pid);
		file = fopen(path, "re");
		if (!file)
			continue;
		/* Whoever is read in the moment of being reaped is dead. */
		if (fgets(state, sizeof(state), file) &&
			!strstr(state, ") Z ") && !strstr(state, ") X ")) {
			snprintf(names + strlen(names), 256 - strlen(names),
				"%.60s; ", state);
			count++;
		}
		fclose(file);
	}
	if (proc)
		closedir(proc);
	return count;
}

static int links(void)
{
	struct if_nameindex *list = if_nameindex();
	int count = 0;

	for (size_t i = 0; list && list[i].if_index; i++)
		count += strncmp(list[i].if_name, "th", 2) == 0;
	if_freenameindex(list);
	return count;
}

static int entries_of(const char *path)
{
	DIR *dir = opendir(path);
	struct dirent *entry;
	int count = 0;

	while (dir && (entry = readdir(dir)))
		count += entry->d_name[0] != '.';
	if (dir)
		closedir(dir);
	return count;
}

/* How this test's store calls its groups: others on the host have theirs. */
static void own_groups(char prefix[40])
{
	struct th_query *query = NULL;
	struct th_db *db = NULL;
	struct th_error err = {0};
	char path[300];

	prefix[0] = '\0';
	snprintf(path, sizeof(path), "%s/state.db", world_store);
	if (access(path, F_OK) || th_db_open(path, 1, &db, &err))
		return;
	if (th_db_query(db, &query, &err,
		    "SELECT value FROM meta WHERE key='tag'", "") == 0 &&
		th_query_next(query, &err) == 1)
		snprintf(prefix, 40, "tidyhull-%.20s", th_query_text(query, 0));
	th_query_end(query);
	th_db_close(db);
}

int world_groups(void)
{
	const char *mount_point = th_cgroup_mount();
	DIR *dir = mount_point
		? opendir(world_group[0] ? world_group : mount_point)
		: NULL;
	struct dirent *entry;
	char prefix[40];
	int count = 0;

	own_groups(prefix);
	while (dir && prefix[0] && (entry = readdir(dir)))
		count += strncmp(entry->d_name, prefix, strlen(prefix)) == 0;
	if (dir)
		closedir(dir);
	return count;
}

static int forwarding(void)
{
	return as_root("cat /proc/sys/net/ipv4/ip_forward")->out[0];
}

static bool nothing_runs(void *arg)
{
	char names[256];

	(void)arg;
	return strangers(names) == 0 && links() == 0;
}

/* A folder of the store. */
static void check_empty(const char *folder)
{
	char path[256];

	snprintf(path, sizeof(path), "%s/%s", world_store, folder);
	if (entries_of(path) == 0)
		return;
	printf("\n    left in %s: %s\n", folder,
		as_root("ls -lA %s", path)->out);
	CU_FAIL("a file was left behind");
}

static void check_leftovers(void)
{
	char names[256];
	struct result *filter;

	/* The kernel takes some of it down a moment later. */
	wait_until(nothing_runs, NULL);
	if (strangers(names)) {
		printf("\n    processes left: %s\n", names);
		CU_FAIL("a process was left behind");
	}
	CHECK_INT(links(), 0);
	CHECK_INT(world_groups(), 0);
	CHECK_INT(count_lines("/proc/self/mounts"), mounts_before);
	filter = as_root("nft list ruleset");
	CHECK_TEXT(filter->out, "");
	CHECK_INT(access("/run/tidyhull-host", F_OK), -1);
	CHECK_INT(forwarding(), forwarding_before);
	check_empty("containers");
	check_empty("tmp");
	as_root("sh -c 'cd %s/run && rm -f network.lock linger.lock pilot.lock "
		"names.lock names-*'",
		world_store);
	check_empty("run");
}

/* What a sanitizer has found in any program (see tests.mk). */
static void check_reports(void)
{
	struct result *found =
		as_root("sh -c 'cat /var/tmp/hull-san.* 2>/dev/null; rm -f "
			"/var/tmp/hull-san.*'");

	if (found->out[0]) {
		printf("\n%s\n", found->out);
		CU_FAIL("a sanitizer has reported");
	}
}

/* ---- registries ---- */

static void run_chandler(char *path, const char *log, char *options)
{
	char verbose[] = "--verbose";
	char program[600], file[400], *words[40], *rest = NULL;
	int count = 0, fd;

	snprintf(program, sizeof(program), "%s/chandler", world_build);
	words[count++] = program;
	for (char *word = strtok_r(options, " ", &rest); word && count < 36;
		word = strtok_r(NULL, " ", &rest))
		words[count++] = word;
	if (log) {
		snprintf(file, sizeof(file), "%s/%s", world_folder, log);
		fd = open(file, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
		dup2(fd, 2);
		words[count++] = verbose;
	}
	words[count++] = path;
	words[count] = NULL;
	if (chdir(world_folder) == 0)
		execv(program, words);
	_exit(99);
}

int start_registry(const char *layout)
{
	return start_chandler(layout, NULL, "%s", "");
}

int start_chandler(
	const char *layout, const char *log, const char *options, ...)
{
	char line[128] = "", path[700], text[2000];
	int pair[2], port = 0;
	va_list args;
	FILE *out;
	pid_t pid;

	va_start(args, options);
	vsnprintf(text, sizeof(text), options, args);
	va_end(args);

	snprintf(path, sizeof(path), "%s%s%s",
		layout[0] == '/' ? "" : world_folder,
		layout[0] == '/' ? "" : "/", layout);
	if (registry_count == REGISTRIES_MAX || pipe2(pair, O_CLOEXEC))
		die("registry");
	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		dup2(pair[1], 1);
		run_chandler(path, log, text);
	}
	close(pair[1]);
	out = fdopen(pair[0], "r");
	if (out && fgets(line, sizeof(line), out) && strrchr(line, ':'))
		port = atoi(strrchr(line, ':') + 1);
	if (out)
		fclose(out);
	registries[registry_count++].pid = pid;
	CHECK(port > 0);
	return port;
}

static void stop_registries(void)
{
	for (size_t i = 0; i < registry_count; i++) {
		kill(registries[i].pid, SIGTERM);
		CHECK_INT(wait_for(registries[i].pid), 0);
	}
	registry_count = 0;
}

/* ---- around each test ---- */

void world_begin(void)
{
	static int number;

	snprintf(world_folder, sizeof(world_folder), "%.100s/%d", base,
		number++);
	if (mkdir(world_folder, 0755) ||
		chown(world_folder, world_user, world_user))
		die(world_folder);
	snprintf(world_store, sizeof(world_store), "%s/store", world_folder);
	mounts_before = count_lines("/proc/self/mounts");
	forwarding_before = forwarding();
	world_registry_port = start_registry(images);
	write_config(&world_registry_port, 1);
}

void world_end(void)
{
	struct th_error err = {0};

	check_leftovers();
	check_reports();
	/* What a failed test left must not fail the next one as well. */
	if (access(world_store, F_OK) == 0) {
		hull("stop --all --quiet --grace 0s");
		hull("remove --all --yes --quiet");
	}
	stop_registries();
	if (th_tree_remove(AT_FDCWD, world_folder, &err)) {
		printf("%s\n", err.msg);
		CU_FAIL("the test's folder cannot be removed");
	}
}

void world_leave(void)
{
	char path[240];

	snprintf(path, sizeof(path), "%s/tidyhull-outside", world_group);
	if (world_group[0])
		rmdir(path);
	if (world_group[0] && rmdir(world_group))
		perror(world_group);
	rmdir(base);
}

bool world_has_controllers(void)
{
	char path[240], line[256] = "";
	FILE *file;

	snprintf(path, sizeof(path), "%s/cgroup.controllers", world_group);
	file = world_group[0] ? fopen(path, "re") : NULL;
	if (!file)
		return false;
	if (!fgets(line, sizeof(line), file))
		line[0] = '\0';
	fclose(file);
	return strstr(line, "memory") != NULL;
}
