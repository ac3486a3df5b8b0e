#include "network/relaying.h"

#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/libc.h"
#include "base/loop.h"
#include "network/relay.h"
#include "sandbox/rights.h"
#include "sandbox/wall.h"

/* Where its descriptors lie: the control, and the ports one after the other. */
#define CONTROL 3
#define FIRST_PORT 4
/* The arguments before the ports: program, word, where it is, the two
 * addresses.
 */
#define FIRST_ARG 5
#define OUTSIDE "outside"

/* ---- the side of the caller ---- */

/* What the child does between vfork and exec. It shares the caller's memory:
 * it must not change any. */
static _Noreturn void become(
	int netns, const int *fds, size_t count, char *const *args)
{
	static char *const env[] = {NULL};
	int high = CONTROL + (int)count;

	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	if (netns >= 0 && setns(netns, CLONE_NEWNET))
		_exit(errno);
	/* First out of the way of the places that they are to get. */
	for (size_t i = 0; i < count; i++)
		high = fds[i] >= high ? fds[i] + 1 : high;
	for (int i = 0; i < (int)count; i++) {
		if (dup2(fds[i], high + i) < 0)
			_exit(errno);
	}
	for (int i = 0; i < (int)count; i++) {
		if (dup2(high + i, CONTROL + i) < 0)
			_exit(errno);
	}
	syscall(SYS_close_range, CONTROL + (unsigned int)count, ~0u, 0);
	if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0))
		_exit(errno);
	th_rights_drop();
	execve("/proc/self/exe", args, env);
	_exit(errno);
}

/* "80/tcp", "53/udp": one for each descriptor. */
static int describe(const struct th_port *ports, const int (*fds)[2],
	size_t count, struct th_strings *args, int *list, size_t *used)
{
	for (size_t i = 0; i < count; i++) {
		for (int f = 0; f < 2; f++) {
			if (fds[i][f] < 0)
				continue;
			list[(*used)++] = fds[i][f];
			if (th_strings_take(args,
				    th_format("%d/%s", ports[i].port,
					    ports[i].udp ? "udp" : "tcp")))
				return -1;
		}
	}
	return 0;
}

static int start(struct th_relaying *relaying, int netns, const int *list,
	size_t used, const struct th_strings *args, struct th_error *err)
{
	int status = 0;

	relaying->pid = vfork();
	if (relaying->pid == 0)
		become(netns, list, used, args->items);
	if (relaying->pid < 0) {
		relaying->pid = 0;
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot start the relay of the ports");
	}
	if (waitpid(relaying->pid, &status, WNOHANG) == relaying->pid) {
		relaying->pid = 0;
		return th_fail_sys(err, TH_FAILED,
			WIFEXITED(status) ? WEXITSTATUS(status) : EIO,
			"cannot start the relay of the ports");
	}
	relaying->pidfd = (int)syscall(SYS_pidfd_open, relaying->pid, 0);
	return relaying->pidfd < 0
		? th_fail_sys(err, TH_FAILED, errno, "cannot watch the relay")
		: 0;
}

int th_relaying_start(struct th_relaying *relaying,
	const struct th_relaying_way *way, const struct th_port *ports,
	const int (*fds)[2], size_t count, struct th_error *err)
{
	int *list = calloc(2 * count + 1, sizeof(*list)), pair[2] = {-1, -1};
	struct th_strings args = {0};
	size_t used = 0;
	int rc = -1;

	relaying->pid = 0;
	relaying->pidfd = relaying->control = -1;
	if (!list ||
		socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair) ||
		th_strings_add(&args, "tidyhull-keeper") ||
		th_strings_add(&args, TH_RELAYING_WORD) ||
		th_strings_add(&args, way->outside ? OUTSIDE : "inside") ||
		th_strings_add(&args, way->address4) ||
		th_strings_add(&args, way->address6)) {
		th_fail_sys(err, TH_FAILED, errno, "cannot start the relay");
		goto out;
	}
	list[used++] = pair[1];
	if (describe(ports, fds, count, &args, list, &used)) {
		th_fail_memory(err);
		goto out;
	}
	relaying->control = pair[0];
	pair[0] = -1;
	rc = start(relaying, way->netns, list, used, &args, err);
	if (rc)
		th_relaying_end(relaying);
out:
	th_close(&pair[0]);
	th_close(&pair[1]);
	th_strings_release(&args);
	free(list);
	return rc;
}

void th_relaying_end(struct th_relaying *relaying)
{
	if (relaying->pid > 0) {
		kill(relaying->pid, SIGKILL);
		while (waitpid(relaying->pid, NULL, 0) < 0 && errno == EINTR)
			;
	}
	relaying->pid = 0;
	th_close(&relaying->pidfd);
	th_close(&relaying->control);
}

/* ---- the process itself ---- */

static void control_ended(struct th_watch *watch, uint32_t events)
{
	bool *ended = watch->owner;

	(void)events;
	*ended = true;
}

static int give_up(bool datagrams, struct th_error *err)
{
	const int calls[] = {
		SYS_accept4,
		datagrams ? SYS_socket : TH_WALL_STREAM_SOCKET,
		SYS_connect,
		SYS_getsockopt,
		SYS_setsockopt,
		SYS_getsockname,
		SYS_getpeername,
		SYS_shutdown,
		SYS_bind,
		SYS_read,
		SYS_write,
		SYS_recvfrom,
		SYS_sendto,
		SYS_recvmsg,
		SYS_sendmsg,
		SYS_splice,
		SYS_pipe2,
		SYS_fcntl,
		SYS_close,
		SYS_epoll_ctl,
		SYS_epoll_pwait,
		SYS_clock_gettime,
		SYS_clock_nanosleep,
		SYS_sched_getaffinity,
		SYS_mmap,
		SYS_munmap,
		SYS_mremap,
		SYS_mprotect,
		SYS_madvise,
		SYS_brk,
		SYS_futex,
		SYS_rt_sigprocmask,
		SYS_rt_sigreturn,
		SYS_sigaltstack,
		SYS_restart_syscall,
		SYS_exit,
		SYS_exit_group,
#ifdef SYS_epoll_wait
		SYS_epoll_wait,
#endif
	};

	return th_wall_files(NULL, 0, err) ||
		th_wall_calls(calls, sizeof(calls) / sizeof(*calls), err);
}

/* From outside it would reach more than the container. */
static int wall_ports(
	int argc, char **argv, bool *datagrams, struct th_error *err)
{
	uint16_t *ports = calloc((size_t)argc, sizeof(*ports));
	int rc;

	if (!ports)
		return th_fail_memory(err);
	for (int i = FIRST_ARG; i < argc; i++) {
		ports[i - FIRST_ARG] = (uint16_t)atoi(argv[i]);
		*datagrams |= strstr(argv[i], "/udp") != NULL;
	}
	rc = th_wall_ports(ports, (size_t)(argc - FIRST_ARG), err);
	free(ports);
	return rc;
}

static int serve_all(struct th_relay *relay, int argc, char **argv)
{
	struct th_error err = {0};

	for (int i = FIRST_ARG; i < argc; i++) {
		struct th_port port = {.port = atoi(argv[i]),
			.udp = strstr(argv[i], "/udp") != NULL};
		int fds[2] = {FIRST_PORT + i - FIRST_ARG, -1};

		fcntl(fds[0], F_SETFD, FD_CLOEXEC);
		if (th_relay_serve(relay, &port, fds, &err))
			return -1;
	}
	return 0;
}

int th_relaying_main(int argc, char **argv)
{
	struct th_loop loop = {.epoll = -1};
	struct th_relay *relay = NULL;
	struct th_error err = {0};
	bool ended = false, datagrams = false;
	struct th_watch control = {
		.fd = -1, .owner = &ended, .ready = control_ended};

	prctl(PR_SET_NAME, "tidyhull-relay", 0, 0, 0);
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	th_libc_one_heap();
	if (argc <= FIRST_ARG || th_loop_init(&loop, &err) ||
		th_loop_watch(&loop, &control, CONTROL, EPOLLIN))
		return 1;
	relay = strcmp(argv[2], OUTSIDE) == 0
		? th_relay_new_outside(&loop, CONTROL, argv[3], argv[4])
		: th_relay_new(&loop, -1, argv[3], argv[4]);
	if (!relay || serve_all(relay, argc, argv) ||
		wall_ports(argc, argv, &datagrams, &err) ||
		give_up(datagrams, &err))
		return 1;
	while (!ended && th_loop_round(&loop, -1) >= 0)
		;
	return 0;
}
