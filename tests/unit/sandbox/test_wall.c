/* What is out of reach behind the walls. */
#include "sandbox/wall.h"

#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <stdlib.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "unit/unit.h"

static int listener(uint16_t *port)
{
	struct sockaddr_in own = {.sin_family = AF_INET,
		.sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	socklen_t len = sizeof(own);
	int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);

	CU_ASSERT_FATAL(fd >= 0 &&
		bind(fd, (struct sockaddr *)(void *)&own, sizeof(own)) == 0 &&
		listen(fd, 4) == 0 &&
		getsockname(fd, (struct sockaddr *)(void *)&own, &len) == 0);
	*port = ntohs(own.sin_port);
	return fd;
}

static int dial(uint16_t port)
{
	struct sockaddr_in to = {.sin_family = AF_INET,
		.sin_port = htons(port),
		.sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0), rc;

	if (fd < 0)
		return errno;
	rc = connect(fd, (struct sockaddr *)(void *)&to, sizeof(to)) ? errno
								     : 0;
	close(fd);
	return rc;
}

static bool is_limited(void)
{
	/* LANDLOCK_CREATE_RULESET_VERSION; ports from the fourth on. */
	return syscall(SYS_landlock_create_ruleset, NULL, 0, 1) >= 4;
}

/* In a process of its own, as there is no way back. */
static void other_ports_are_out_of_reach(void)
{
	struct th_error err = {0};
	uint16_t one, other;
	int first = listener(&one), second = listener(&other), status = 0;
	pid_t pid;

	CU_ASSERT_EQUAL(dial(one), 0);
	pid = fork();
	if (pid == 0) {
		if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) ||
			th_wall_ports(&one, 1, &err))
			_exit(1);
		if (dial(one) != 0)
			_exit(2);
		if (dial(other) != (is_limited() ? EACCES : 0))
			_exit(3);
		_exit(0);
	}
	waitpid(pid, &status, 0);
	CU_ASSERT_EQUAL(status, 0);
	close(first);
	close(second);
}

static int type_opens(int family, int type)
{
	int fd = socket(family, type, 0);

	if (fd >= 0)
		close(fd);
	return fd >= 0 ? 0 : errno;
}

/* Not by _exit(): before one, AddressSanitizer asks for the signal stack, which
 * is not among the calls that are let through. */
static void end_with(int status)
{
	syscall(SYS_exit_group, status);
}

static void sockets_are_of_the_kinds_that_are_let_through(void)
{
	static const int streams[] = {
		TH_WALL_STREAM_SOCKET, SYS_close, SYS_exit_group, SYS_exit};
	struct th_error err = {0};
	int status = 0;
	pid_t pid = fork();

	if (pid == 0) {
		if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) ||
			th_wall_calls(streams, 4, &err))
			end_with(1);
		if (type_opens(AF_INET, SOCK_STREAM) ||
			type_opens(AF_INET6,
				SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC))
			end_with(2);
		if (type_opens(AF_INET, SOCK_DGRAM) != EPERM ||
			type_opens(AF_INET6, SOCK_DGRAM | SOCK_CLOEXEC) !=
				EPERM ||
			type_opens(AF_INET, SOCK_RAW) != EPERM ||
			type_opens(AF_UNIX, SOCK_STREAM) != EPERM)
			end_with(3);
		if (syscall(SYS_getppid) != -1 || errno != EPERM)
			end_with(4);
		end_with(0);
	}
	waitpid(pid, &status, 0);
	CU_ASSERT_EQUAL(status, 0);
}

static const CU_TestInfo tests[] = {
	{"other ports are out of reach", other_ports_are_out_of_reach},
	{"sockets are of the kinds that are let through",
		sockets_are_of_the_kinds_that_are_let_through},
	CU_TEST_INFO_NULL};

const struct suite suite_wall = {"sandbox/wall", tests};
