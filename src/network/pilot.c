#include "network/pilot.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <spawn.h>
#include <stddef.h>
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
#define SPARE 5
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

/* The same by a name that is no file, and that nobody can remove by mistake: of
 * the user, and of the folder's path. 0 where it has none. */
static socklen_t name_spare(int run_fd, struct sockaddr_un *name)
{
	char link[TH_FD_PATH], path[4096];
	uint64_t hash = 14695981039346656037u; /* FNV-1a */
	static const char gone[] = " (deleted)";
	ssize_t len =
		readlink(th_fd_path(run_fd, "", link), path, sizeof(path));
	int used;

	if (len <= 0 || len == sizeof(path))
		return 0;
	/* It may have been removed, and made anew by now. */
	if ((size_t)len > sizeof(gone) &&
		memcmp(path + len - (sizeof(gone) - 1), gone,
			sizeof(gone) - 1) == 0)
		len -= (ssize_t)sizeof(gone) - 1;
	for (ssize_t i = 0; i < len; i++)
		hash = (hash ^ (unsigned char)path[i]) * 1099511628211u;
	memset(name, 0, sizeof(*name));
	name->sun_family = AF_UNIX;
	used = snprintf(name->sun_path + 1, sizeof(name->sun_path) - 1,
		"tidyhull-pilot/%016" PRIx64, hash);
	return (socklen_t)(offsetof(struct sockaddr_un, sun_path) + 1 +
		(size_t)used);
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

/* 1 connected, 0 nobody is there, -1. */
static int connect_to(struct th_pilot *pilot, const struct sockaddr_un *name,
	socklen_t len, bool is_file, struct th_error *err)
{
	const struct timeval patience = {.tv_sec = ANSWER_SECONDS};
	int rc;

	reset(pilot);
	pilot->connection = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
	if (pilot->connection < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot create a socket");
	setsockopt(pilot->connection, SOL_SOCKET, SO_RCVTIMEO, &patience,
		sizeof(patience));
	rc = connect(pilot->connection,
		(const struct sockaddr *)(const void *)name, len);
	if (rc)
		rc = 0;
	else if (th_peer_is_own(pilot->connection))
		rc = hear(pilot, err);
	else if (is_file)
		rc = th_fail(err, TH_NOT_POSSIBLE,
			"the socket of your networks belongs to another user");
	if (rc <= 0)
		th_pilot_close(pilot);
	return rc;
}

int th_pilot_connect(int run_fd, struct th_pilot *pilot, struct th_error *err)
{
	struct sockaddr_un name;
	socklen_t len;
	int rc;

	name_socket(run_fd, &name);
	rc = connect_to(pilot, &name, sizeof(name), true, err);
	if (rc)
		return rc;
	/* Its file may have been removed, by a cleaner or by mistake. */
	len = name_spare(run_fd, &name);
	return len ? connect_to(pilot, &name, len, false, err) : 0;
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

/* Somebody may have the name; then there is only the file. */
static int listen_for_spare(int run_fd)
{
	struct sockaddr_un name;
	socklen_t len = name_spare(run_fd, &name);
	int fd = len ? socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0) : -1;
	int high = -1;

	if (fd >= 0 &&
		bind(fd, (const struct sockaddr *)(const void *)&name, len) ==
			0 &&
		listen(fd, 128) == 0)
		high = fcntl(fd, F_DUPFD_CLOEXEC, 16);
	th_close(&fd);
	return high;
}

int th_pilot_start(const char *program, int run_fd, struct th_pilot *pilot,
	struct th_error *err)
{
	const char *args[] = {"tidyhull-pilot", NULL, NULL};
	static char *const env[] = {NULL};
	posix_spawn_file_actions_t actions;
	char path[TH_FD_PATH];
	int sealed = -1, listener, spare, rc;
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
	spare = listen_for_spare(run_fd);
	/* The folder first: it may have another one's number. */
	posix_spawn_file_actions_adddup2(&actions, run_fd, FOLDER);
	if (spare >= 0) {
		args[1] = TH_PILOT_SPARE;
		posix_spawn_file_actions_adddup2(&actions, spare, SPARE);
	}
	posix_spawn_file_actions_adddup2(&actions, listener, LISTENER);
	rc = posix_spawn(&pid, th_fd_path(sealed, "", path), &actions, NULL,
		(char *const *)(uintptr_t)args, env);
	posix_spawn_file_actions_destroy(&actions);
	th_close(&sealed);
	th_close(&listener);
	th_close(&spare);
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
