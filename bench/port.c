/* Published ports against the same server without a container: on this host
 * (the relay), and from another one (the packet filter). And the way out of an
 * unprivileged user's container. All in network namespaces of its own. */
#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/wait.h>
#include <unistd.h>

#include "bench.h"
#include "traffic.h"

/* The server here, and those in containers: of root, and of a user. */
#define PLAIN 9001
#define PUBLISHED 9101
#define USER_PUBLISHED 9201
/* An unprivileged user with the least: no name, no home, no IDs of their own.
 */
#define AS_USER                                                                \
	"setpriv --reuid 4711 --regid 4711 --clear-groups --inh-caps=-all "

static void set_up(const char *build, const char *folder)
{
	char line[3600];

	bench_run(folder,
		"ip link set lo up && ip netns add outside && "
		"ip link add out0 type veth peer name out1 netns outside && "
		"ip address add 192.0.2.1/24 dev out0 && ip link set out0 up "
		"&& ip -n outside address add 192.0.2.2/24 dev out1 && "
		"ip -n outside link set out1 up");
	snprintf(line, sizeof(line), "%.600s/echo %d & echo $! >plain.pid",
		build, PLAIN);
	bench_run(folder, line);
	snprintf(line, sizeof(line),
		"export TIDYHULL_ROOT=%.200s/ports; %.600s/tidyhull unpack "
		"--quiet %.600s/demo-images --only selwick/base && "
		"%.600s/tidyhull launch --quiet selwick/base --name server "
		"--port %d=%d --mount /echo=%.600s/echo,ro -- /echo %d "
		">/dev/null; sleep 0.5",
		folder, build, build, build, PLAIN, PUBLISHED, build, PLAIN);
	bench_run(folder, line);
}

/* One of an unprivileged user, whose network namespace becomes "inside". */
static void set_up_user(const char *build, const char *folder)
{
	char line[4000];

	snprintf(line, sizeof(line),
		"chmod 711 . && mkdir user && chown 4711:4711 user && cd user "
		"&& export HOME=$PWD TIDYHULL_ROOT=$PWD/store && " AS_USER
		"%.600s/tidyhull unpack --quiet %.600s/demo-images --only "
		"selwick/base && " AS_USER
		"%.600s/tidyhull launch --quiet selwick/base --name server "
		"--port %d=%d --mount /echo=%.600s/echo,ro -- /echo %d "
		">/dev/null && pid=$(" AS_USER
		"%.600s/tidyhull show server --json | "
		"sed -n 's/^ *\"pid\": *\\([0-9]*\\).*/\\1/p') && "
		"ip netns attach inside $pid; sleep 0.5",
		build, build, build, PLAIN, USER_PUBLISHED, build, PLAIN,
		build);
	bench_run(folder, line);
}

static void take_down(const char *build, const char *folder)
{
	char line[2400];

	snprintf(line, sizeof(line),
		"TIDYHULL_ROOT=%.200s/ports %.600s/tidyhull remove --force "
		"--quiet server; HOME=%.200s/user "
		"TIDYHULL_ROOT=%.200s/user/store " AS_USER
		"%.600s/tidyhull remove --force --quiet server; "
		"kill $(cat plain.pid); ip netns delete inside",
		folder, build, folder, folder, build);
	bench_run(folder, line);
}

static int open_space(const char *name)
{
	char path[64];
	int fd;

	snprintf(path, sizeof(path), "/run/netns/%s", name);
	fd = open(path, O_RDONLY | O_CLOEXEC);
	/* Nobody's namespace: the rows fail, instead of being of this one. */
	return fd >= 0 ? fd : HERE - 1;
}

static void measure_all(const char *build, const char *folder, size_t rounds)
{
	static const double relay[] = {0.6, 1.7, 0.7}, filter[] = {0.9, 1.3, 0};
	static const double none[3];
	const struct way here = {HERE, "127.0.0.1", PLAIN};
	const struct way to_host = {HERE, "192.0.2.1", PLAIN};
	struct way outside, out_filter, inside;

	if (unshare(CLONE_NEWNET | CLONE_NEWNS) ||
		mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL) ||
		mount("run", "/run", "tmpfs", 0, NULL)) {
		perror("bench: ports");
		return;
	}
	set_up(build, folder);
	traffic_compare("port by the relay", relay,
		&(struct way){HERE, "127.0.0.1", PUBLISHED}, &here, rounds);
	outside = (struct way){open_space("outside"), "192.0.2.1", PLAIN};
	out_filter = outside;
	out_filter.port = PUBLISHED;
	traffic_compare("port by the packet filter", filter, &out_filter,
		&outside, rounds);
	set_up_user(build, folder);
	traffic_compare("port of a user", relay,
		&(struct way){HERE, "127.0.0.1", USER_PUBLISHED}, &here,
		rounds);
	inside = (struct way){open_space("inside"), "192.0.2.1", PLAIN};
	traffic_compare("way out of a user", none, &inside, &to_host, rounds);
	take_down(build, folder);
}

void bench_port(const char *build, const char *folder, size_t rounds)
{
	pid_t pid;

	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		measure_all(build, folder, rounds);
		fflush(NULL);
		_exit(0);
	}
	while (waitpid(pid, NULL, 0) < 0 && errno == EINTR)
		;
}
