#include "network/pilot.h"

#include <errno.h>
#include <fcntl.h>
#include <spawn.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/file.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/sealed.h"

/* Descriptors of the new program. */
#define LISTENER 3
#define FOLDER 4
/* How long it may take to say hello. */
#define ANSWER_SECONDS 10

static void reset(struct th_pilot *pilot)
{
	memset(pilot, 0, sizeof(*pilot));
	pilot->connection = pilot->users = pilot->netns = -1;
}

void th_pilot_close(struct th_pilot *pilot)
{
	th_close(&pilot->connection);
	th_close(&pilot->users);
	th_close(&pilot->netns);
}

/* By the folder's descriptor, as a socket's path has little room. */
static void name_socket(int run_fd, struct sockaddr_un *name)
{
	memset(name, 0, sizeof(*name));
	name->sun_family = AF_UNIX;
	snprintf(name->sun_path, sizeof(name->sun_path),
		"/proc/self/fd/%d/" TH_PILOT_SOCKET, run_fd);
}

static int hear(struct th_pilot *pilot, struct th_error *err)
{
	_Alignas(8) char room[CMSG_SPACE(2 * sizeof(int))];
	struct iovec part = {&pilot->hello, sizeof(pilot->hello)};
	struct msghdr message = {.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = room,
		.msg_controllen = sizeof(room)};
	struct cmsghdr *extra;
	int fds[2] = {-1, -1};
	ssize_t len;

	do {
		len = recvmsg(pilot->connection, &message, MSG_CMSG_CLOEXEC);
	} while (len < 0 && errno == EINTR);
	extra = len > 0 ? CMSG_FIRSTHDR(&message) : NULL;
	if (extra && extra->cmsg_type == SCM_RIGHTS &&
		extra->cmsg_len == CMSG_LEN(sizeof(fds)))
		memcpy(fds, CMSG_DATA(extra), sizeof(fds));
	pilot->users = fds[0];
	pilot->netns = fds[1];
	pilot->hello.reason[sizeof(pilot->hello.reason) - 1] = '\0';
	if (len < 0 && errno == EAGAIN) {
		th_fail(err, TH_FAILED,
			"the program that holds your networks (tidyhull-pilot) "
			"is not responding");
		return th_hint(err,
			"if it is suspended: pkill -CONT tidyhull-pilot; pkill "
			"-KILL tidyhull-pilot ends it, and disconnects "
			"containers");
	}
	if (len <= 0)
		return 0; /* it was just leaving */
	if (len != sizeof(pilot->hello) ||
		pilot->hello.version != TH_PILOT_VERSION)
		return th_fail(err, TH_FAILED,
			"the running tidyhull-pilot is from another version; "
			"stop all containers once");
	if (fds[1] < 0)
		return th_fail(err, TH_NOT_POSSIBLE, "%s", pilot->hello.reason);
	return 1;
}

int th_pilot_lock(int run_fd, struct th_error *err)
{
	int fd = openat(
		run_fd, TH_PILOT_LOCK, O_RDWR | O_CREAT | O_CLOEXEC, 0600);

	if (fd >= 0 && flock(fd, LOCK_EX) == 0)
		return fd;
	th_fail_sys(err, TH_FAILED, errno, "cannot lock your networks");
	th_close(&fd);
	return -1;
}

int th_pilot_connect(int run_fd, struct th_pilot *pilot, struct th_error *err)
{
	const struct timeval patience = {.tv_sec = ANSWER_SECONDS};
	struct sockaddr_un name;
	int rc;

	reset(pilot);
	name_socket(run_fd, &name);
	pilot->connection = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
	if (pilot->connection < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot create a socket");
	setsockopt(pilot->connection, SOL_SOCKET, SO_RCVTIMEO, &patience,
		sizeof(patience));
	rc = connect(pilot->connection,
		(const struct sockaddr *)(const void *)&name, sizeof(name));
	if (rc == 0 && !th_peer_is_own(pilot->connection))
		rc = th_fail(err, TH_NOT_POSSIBLE,
			"the socket of your networks belongs to another user");
	else
		rc = rc ? 0 : hear(pilot, err);
	if (rc <= 0)
		th_pilot_close(pilot);
	return rc;
}

static int listen_for_it(int run_fd, struct th_error *err)
{
	struct sockaddr_un name;
	int fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0), high;

	name_socket(run_fd, &name);
	unlinkat(run_fd, TH_PILOT_SOCKET, 0);
	if (fd >= 0 &&
		bind(fd, (const struct sockaddr *)(const void *)&name,
			sizeof(name)) == 0 &&
		listen(fd, 128) == 0) {
		/* Out of the way of the descriptors that the program gets. */
		high = fcntl(fd, F_DUPFD_CLOEXEC, 16);
		close(fd);
		return high;
	}
	th_fail_sys(err, TH_FAILED, errno, "cannot create the pilot's socket");
	th_close(&fd);
	return -1;
}

int th_pilot_start(const char *program, int run_fd, struct th_pilot *pilot,
	struct th_error *err)
{
	static const char *const args[] = {"tidyhull-pilot", NULL};
	static char *const env[] = {NULL};
	posix_spawn_file_actions_t actions;
	char path[TH_FD_PATH];
	int sealed = -1, listener, rc;
	pid_t pid;

	reset(pilot);
	listener = listen_for_it(run_fd, err);
	if (listener < 0)
		return -1;
	sealed = th_sealed_open(program, err);
	if (sealed < 0 || posix_spawn_file_actions_init(&actions)) {
		th_close(&listener);
		th_close(&sealed);
		return -1;
	}
	/* The folder first: it may have the other one's number. */
	posix_spawn_file_actions_adddup2(&actions, run_fd, FOLDER);
	posix_spawn_file_actions_adddup2(&actions, listener, LISTENER);
	rc = posix_spawn(&pid, th_fd_path(sealed, "", path), &actions, NULL,
		(char *const *)(uintptr_t)args, env);
	posix_spawn_file_actions_destroy(&actions);
	th_close(&sealed);
	th_close(&listener);
	if (rc) {
		unlinkat(run_fd, TH_PILOT_SOCKET, 0);
		return th_fail_sys(
			err, TH_FAILED, rc, "cannot start %s", program);
	}
	rc = th_pilot_connect(run_fd, pilot, err);
	pilot->pid = pid;
	if (rc == 0)
		th_fail(err, TH_FAILED,
			"the pilot of your networks ended immediately");
	return rc == 1 ? 0 : -1;
}
