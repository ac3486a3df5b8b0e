#include "sandbox/hierarchy.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"

#define HIERARCHIES_MAX 24
#define BASE_MAX 256

static struct hierarchy known[HIERARCHIES_MAX];
static size_t known_count;
static char job[256];

/* A later mount covers what was mounted on its folder, and below. */
static void forget_covered(const char *mount, size_t len)
{
	size_t kept = 0;

	for (size_t i = 0; i < known_count; i++) {
		bool below = strncmp(known[i].mount, mount, len) == 0;
		char after = below && len > 1 ? known[i].mount[len] : '/';

		if (!below || (after && after != '/'))
			known[kept++] = known[i];
	}
	known_count = kept;
}

/* A copy of so many bytes; "" without memory, which finds nothing. They are
 * few, and never freed: together they take no page of the heap each, between
 * what goes. */
static const char *keep(const char *text, size_t len)
{
	static char pool[1024];
	static size_t used;
	bool fits = len < sizeof(pool) - used;
	char *copy = fits ? pool + used : strndup(text, len);

	if (fits) {
		memcpy(copy, text, len);
		copy[len] = '\0';
		used += len + 1;
	}
	return copy ? copy : "";
}

/* The next word of a line; its length. */
static const char *word(const char **at, size_t *len)
{
	const char *begin = *at + strspn(*at, " ");

	*len = strcspn(begin, " ");
	*at = begin + *len;
	return begin;
}

/* One line of /proc/self/mountinfo (proc(5)), which has mounts in the order of
 * their making. There are many, so nothing is copied that is not needed. */
static void take_line(const char *line)
{
	const char *end = strstr(line, " - "), *at = line, *mount, *type;
	size_t mount_len = 0, type_len = 0, len = 0;
	struct hierarchy *one;
	char options[260];

	if (!end)
		return;
	for (int i = 0; i < 4; i++)
		word(&at, &len);
	mount = word(&at, &mount_len);
	forget_covered(mount, mount_len);
	at = end + 3;
	type = word(&at, &type_len);
	if (known_count == HIERARCHIES_MAX || mount > end || !mount_len ||
		strncmp(type, "cgroup", 6) != 0)
		return;
	word(&at, &len);
	at = word(&at, &len);
	snprintf(options, sizeof(options), ",%.*s,", (int)len, at);
	one = &known[known_count];
	*one = (struct hierarchy){.v2 = type_len == 7 && type[6] == '2',
		.mount = keep(mount, mount_len),
		.controllers = keep(options, strlen(options)),
		.base = "",
		.own = ""};
	/* Version 2 stands first in the list, where hierarchy_v2 looks. */
	if (one->v2 && known_count) {
		struct hierarchy first = known[0];

		known[0] = *one;
		*one = first;
	}
	known_count++;
}

/* "4:memory:/a/b" or "0::/a/b" of /proc/self/cgroup. */
static void take_own(const char *line)
{
	const char *names = strchr(line, ':'), *path;
	size_t len;

	path = names ? strchr(names + 1, ':') : NULL;
	if (!path)
		return;
	len = strcspn(path + 1, "\n");
	for (size_t i = 0; i < known_count; i++) {
		struct hierarchy *one = &known[i];
		char first[64];

		snprintf(first, sizeof(first), ",%.*s,",
			(int)strcspn(names + 1, ",:"), names + 1);
		if (one->v2 ? path != names + 1
			    : !strstr(one->controllers, first) ||
					path == names + 1)
			continue;
		if (len > 1 && len < BASE_MAX)
			one->base = keep(path + 1, len);
	}
}

static void each_line(const char *path, void (*take)(const char *line))
{
	struct th_error ignored = {0}; /* then there are none */
	struct th_buf text;

	th_buf_init(&text, 4u << 20);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		for (char *at = text.data; *at;) {
			char *end = strchr(at, '\n');

			if (end)
				*end = '\0';
			take(at);
			if (!end)
				break;
			at = end + 1;
		}
	}
	th_buf_release(&text);
}

/* True where systemd has given the group to whoever runs in it (systemd's
 * "Control Group APIs and Delegation"): a unit with Delegate=. */
static bool is_delegated(const struct hierarchy *one)
{
	static const char *const names[] = {
		"user.delegate", "trusted.delegate"};
	char path[600], value[4];

	if (!one->v2 || !one->base[0])
		return false;
	snprintf(path, sizeof(path), "%s%s", one->mount, one->base);
	for (size_t i = 0; i < 2; i++) {
		if (getxattr(path, names[i], value, sizeof(value)) == 1 &&
			*value == '1')
			return true;
	}
	return false;
}

/* Slurm's groups: "/slurm/uid_4/job_5/step_0/task_0" of version 1, and
 * "/system.slice/slurmstepd.scope/job_5/step_0/user/task_0". */
bool hierarchy_is_job(const char *base)
{
	const char *at = strstr(base, "/job_");

	return at && at[5] >= '0' && at[5] <= '9' &&
		(strstr(base, "/slurm") != NULL);
}

/* An engine may keep some hierarchies only, and not go equally deep in each:
 * that of the memory counts, and otherwise the first. */
static void find_job(void)
{
	for (size_t i = 0; i < known_count; i++) {
		const struct hierarchy *one = &known[i];
		bool counts = one->v2 || strstr(one->controllers, ",memory,");

		if (hierarchy_is_job(one->base) && (counts || !job[0]))
			snprintf(job, sizeof(job), "%s", one->base);
	}
}

/* Within a job only its own part may be used, where somebody has given that; in
 * a hierarchy that the engine leaves alone, a place of the same name. Where it
 * goes less deep it counts the processes of its own groups only, and ends those
 * at the job's end: they stay there. */
static void choose_of_job(struct hierarchy *one)
{
	char path[600];

	if (!one->base[0] && access(one->mount, W_OK) == 0) {
		one->base = job;
		one->writable = true;
		return;
	}
	if (strcmp(one->base, job) != 0) {
		one->writable = false;
		return;
	}
	snprintf(
		path, sizeof(path), "%s%s/cgroup.procs", one->mount, one->base);
	one->writable = access(path, W_OK) == 0;
	*strrchr(path, '/') = '\0';
	one->writable = one->writable && access(path, W_OK) == 0;
}

/* What was given to this process; otherwise, whoever may write at the top takes
 * the top. */
static void choose_base(struct hierarchy *one)
{
	const char *end = strrchr(one->base, '/');
	char path[600];

	/* Who stands aside already has the part above it. */
	if (end && strcmp(end + 1, GROUP_ASIDE) == 0)
		one->base = keep(one->base, (size_t)(end - one->base));
	if (access(one->mount, W_OK) == 0) {
		if (!is_delegated(one))
			one->base = "";
		one->writable = true;
		return;
	}
	snprintf(
		path, sizeof(path), "%s%s/cgroup.procs", one->mount, one->base);
	one->writable = access(path, W_OK) == 0;
	*strrchr(path, '/') = '\0';
	one->writable = one->writable && access(path, W_OK) == 0;
}

static void read_all(void)
{
	each_line("/proc/self/mountinfo", take_line);
	each_line("/proc/self/cgroup", take_own);
	for (size_t i = 0; i < known_count; i++)
		known[i].own = known[i].base;
	find_job();
	for (size_t i = 0; i < known_count; i++) {
		if (job[0])
			choose_of_job(&known[i]);
		else
			choose_base(&known[i]);
	}
}

size_t hierarchies(const struct hierarchy **list)
{
	static pthread_once_t once = PTHREAD_ONCE_INIT;

	pthread_once(&once, read_all);
	*list = known;
	return known_count;
}

static bool mentioned;

static void take_mention(const char *line)
{
	const char *path = strchr(line, '/');

	mentioned |= path && hierarchy_is_job(path);
}

bool hierarchy_in_job(void)
{
	/* Which mounts there are is much to read, and mostly not needed. */
	mentioned = false;
	each_line("/proc/self/cgroup", take_mention);
	return mentioned && *hierarchy_job();
}

const char *hierarchy_job(void)
{
	const struct hierarchy *list;

	hierarchies(&list);
	return job;
}

const struct hierarchy *hierarchy_v2(void)
{
	const struct hierarchy *list;

	return hierarchies(&list) && list[0].v2 ? &list[0] : NULL;
}

const struct hierarchy *hierarchy_v1(const char *controller)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);
	char wanted[64];

	snprintf(wanted, sizeof(wanted), ",%s,", controller);
	for (size_t i = 0; i < count; i++) {
		if (!list[i].v2 && strstr(list[i].controllers, wanted))
			return &list[i];
	}
	return NULL;
}

int group_write(const char *folder, const char *name, const char *text)
{
	char path[PATH_MAX];
	size_t len = strlen(text);
	int fd, rc, sys;

	snprintf(path, sizeof(path), "%s/%s", folder, name);
	/* One write: the kernel takes each as a whole command. */
	fd = open(path, O_WRONLY | O_CLOEXEC);
	rc = fd >= 0 && write(fd, text, len) == (ssize_t)len ? 0 : -1;
	sys = errno;
	th_close(&fd);
	errno = sys;
	return rc;
}

long long group_number(const char *folder, const char *name, const char *key,
	long long missing)
{
	struct th_error ignored = {0}; /* then as if missing */
	char path[PATH_MAX];
	long long number = missing;
	struct th_buf text;

	snprintf(path, sizeof(path), "%s/%s", folder, name);
	th_buf_init(&text, 1 << 20);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		for (const char *at = text.data; *at;) {
			char *end;

			if (strncmp(at, key, strlen(key)) == 0) {
				const char *value = at + strlen(key);
				long long one = strtoll(value, &end, 10);

				number = end == value ? missing : one;
				break;
			}
			at += strcspn(at, "\n");
			at += *at == '\n';
		}
	}
	th_buf_release(&text);
	return number;
}
