#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/signalfd.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/inherit.h"
#include "base/libc.h"
#include "network/forwarding.h"
#include "network/pilot.h"
#include "pilot/pilot.h"

/* As th_pilot_start has placed them. */
#define LISTENER 3
#define FOLDER 4
#define SPARE 5
/* How long it stays without anybody: who starts one container after the other
 * finds it there. And how often it looks then. */
#define IDLE_MS 250
#define LOOK_MS 50
#define CLIENTS_MAX 4096

struct pilot {
	struct inside inside;
	struct uplink *uplink;
	int users, signals;
	struct stat socket; /* our own file, while it is there */
	bool has_spare;
	struct th_pilot_hello hello;
	int clients[CLIENTS_MAX];
	size_t client_count;
	int64_t alone_ms; /* since when nobody is connected */
	struct pollfd *polls;
	size_t poll_count, poll_room;
	bool ended;
};

static void leave_caller(bool has_spare)
{
	struct rlimit files;
	int null = open("/dev/null", O_RDWR | O_CLOEXEC);

	for (int i = 0; i < 3; i++)
		dup2(null, i);
	if (null > 2)
		close(null);
	fcntl(LISTENER, F_SETFD, FD_CLOEXEC);
	fcntl(FOLDER, F_SETFD, FD_CLOEXEC);
	/* Its connections are sockets, and there may be many. */
	if (getrlimit(RLIMIT_NOFILE, &files) == 0) {
		files.rlim_cur = files.rlim_max;
		setrlimit(RLIMIT_NOFILE, &files);
	}
	if (has_spare)
		fcntl(SPARE, F_SETFD, FD_CLOEXEC);
	close_range((has_spare ? SPARE : FOLDER) + 1, ~0u, 0);
	setsid();
	th_inherit_no_signals();
	th_inherit_no_limits();
	umask(077);
	if (chdir("/")) {
		/* It is in somebody's way, and no more. */
	}
	/* What it is called where only that is shown. */
	prctl(PR_SET_NAME, "tidyhull-pilot", 0, 0, 0);
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	signal(SIGPIPE, SIG_IGN);
}

static int watch_signals(void)
{
	sigset_t set;

	sigemptyset(&set);
	sigaddset(&set, SIGTERM);
	sigaddset(&set, SIGINT);
	sigaddset(&set, SIGHUP);
	sigprocmask(SIG_BLOCK, &set, NULL);
	return signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
}

static void prepare(struct pilot *pilot)
{
	bool six = th_forwarding_way_out6();
	struct th_error err = {0};

	pilot->hello.version = TH_PILOT_VERSION;
	pilot->users = open("/proc/self/ns/user", O_RDONLY | O_CLOEXEC);
	if (inside_make(&pilot->inside, six, &err) == 0 &&
		pilot->inside.device >= 0)
		pilot->uplink = uplink_new(pilot->inside.device, six);
	pilot->hello.way_out = pilot->uplink != NULL;
	pilot->hello.way_out6 = pilot->uplink && six;
	snprintf(pilot->hello.reason, sizeof(pilot->hello.reason), "%.190s",
		err.msg);
	pilot->signals = watch_signals();
	pilot->alone_ms = th_clock_mono_ms();
}

/* Says hello, with the namespaces, where there are any. */
static void greet(struct pilot *pilot, int client)
{
	_Alignas(8) char room[CMSG_SPACE(2 * sizeof(int))] = {0};
	struct iovec part = {&pilot->hello, sizeof(pilot->hello)};
	int fds[2] = {pilot->users, pilot->inside.netns};
	struct msghdr message = {.msg_iov = &part, .msg_iovlen = 1};
	struct cmsghdr *extra;

	if (fds[0] >= 0 && fds[1] >= 0) {
		message.msg_control = room;
		message.msg_controllen = sizeof(room);
		extra = CMSG_FIRSTHDR(&message);
		extra->cmsg_level = SOL_SOCKET;
		extra->cmsg_type = SCM_RIGHTS;
		extra->cmsg_len = CMSG_LEN(sizeof(fds));
		memcpy(CMSG_DATA(extra), fds, sizeof(fds));
	}
	if (sendmsg(client, &message, MSG_NOSIGNAL) < 0 ||
		pilot->client_count == CLIENTS_MAX) {
		close(client);
		return;
	}
	pilot->clients[pilot->client_count++] = client;
}

static bool accept_at(struct pilot *pilot, int listener)
{
	bool any = false;
	int client;

	while ((client = accept4(listener, NULL, NULL,
			SOCK_CLOEXEC | SOCK_NONBLOCK)) >= 0) {
		if (!th_peer_is_own(client)) {
			close(client);
			continue;
		}
		greet(pilot, client);
		any = true;
	}
	return any;
}

static bool accept_all(struct pilot *pilot)
{
	bool any = accept_at(pilot, LISTENER);

	return (pilot->has_spare && accept_at(pilot, SPARE)) || any;
}

/* Another one's may lie there by now. */
static void remove_socket(const struct pilot *pilot)
{
	struct stat now;

	if (fstatat(FOLDER, TH_PILOT_SOCKET, &now, AT_SYMLINK_NOFOLLOW) == 0 &&
		th_is_same_file(&now, &pilot->socket))
		unlinkat(FOLDER, TH_PILOT_SOCKET, 0);
}

/* They say nothing: what can be read is their end. */
static void drop_ended(struct pilot *pilot, size_t first)
{
	size_t kept = 0;

	for (size_t i = 0; i < pilot->client_count; i++) {
		if (pilot->polls[first + i].revents)
			close(pilot->clients[i]);
		else
			pilot->clients[kept++] = pilot->clients[i];
	}
	if (pilot->client_count && !kept)
		pilot->alone_ms = th_clock_mono_ms();
	pilot->client_count = kept;
}

/* Whoever looks for a pilot holds the lock meanwhile: with it in our hands
 * nobody is about to come. */
static void try_to_leave(struct pilot *pilot)
{
	int lock = openat(
		FOLDER, TH_PILOT_LOCK, O_RDWR | O_CREAT | O_CLOEXEC, 0600);

	if (lock < 0 || flock(lock, LOCK_EX | LOCK_NB) == 0) {
		if (!accept_all(pilot)) {
			remove_socket(pilot);
			pilot->ended = true;
		}
	}
	th_close(&lock);
}

static int add(struct pilot *pilot, int fd)
{
	if (pilot->poll_count == pilot->poll_room) {
		size_t room = pilot->poll_room ? pilot->poll_room * 2 : 64;
		struct pollfd *bigger =
			realloc(pilot->polls, room * sizeof(*bigger));

		if (!bigger)
			return -1;
		pilot->polls = bigger;
		pilot->poll_room = room;
	}
	pilot->polls[pilot->poll_count++] =
		(struct pollfd){.fd = fd, .events = POLLIN};
	return 0;
}

static int one_round(struct pilot *pilot)
{
	int timeout = pilot->client_count ? -1 : LOOK_MS, ready, rc;
	size_t first = pilot->has_spare ? 3 : 2;

	pilot->poll_count = 0;
	rc = add(pilot, LISTENER) | add(pilot, pilot->signals);
	if (pilot->has_spare)
		rc |= add(pilot, SPARE);
	for (size_t i = 0; i < pilot->client_count; i++)
		rc |= add(pilot, pilot->clients[i]);
	if (pilot->uplink)
		rc |= uplink_fill(pilot->uplink, &pilot->polls,
			&pilot->poll_count, &pilot->poll_room, &timeout);
	if (rc)
		return -1;
	ready = poll(pilot->polls, pilot->poll_count, timeout);
	if (ready < 0 && errno != EINTR)
		return -1;
	if (pilot->uplink)
		uplink_work(pilot->uplink, pilot->polls, ready < 0);
	if (ready > 0 && pilot->polls[1].revents)
		return -1;
	if (ready > 0)
		drop_ended(pilot, first);
	if (ready > 0 &&
		(pilot->polls[0].revents ||
			(pilot->has_spare && pilot->polls[2].revents)))
		accept_all(pilot);
	if (!pilot->client_count &&
		th_clock_mono_ms() - pilot->alone_ms >= IDLE_MS)
		try_to_leave(pilot);
	return 0;
}

int main(int argc, char **argv)
{
	static struct pilot pilot;
	struct th_error err = {0};
	struct stat st;

	pilot.has_spare = argc == 2 && strcmp(argv[1], TH_PILOT_SPARE) == 0;
	if (argc != 1 + pilot.has_spare || fstat(LISTENER, &st) ||
		!S_ISSOCK(st.st_mode)) {
		fputs("tidyhull-pilot is started by tidyhull; see tidyhull "
		      "help\n",
			stderr);
		return 2;
	}
	leave_caller(pilot.has_spare);
	fcntl(LISTENER, F_SETFL, O_NONBLOCK);
	if (pilot.has_spare)
		fcntl(SPARE, F_SETFL, O_NONBLOCK);
	fstatat(FOLDER, TH_PILOT_SOCKET, &pilot.socket, AT_SYMLINK_NOFOLLOW);
	prepare(&pilot);
	if (pilot_confine(FOLDER, &err))
		return 1;
	while (!pilot.ended && one_round(&pilot) == 0)
		;
	if (!pilot.ended)
		remove_socket(&pilot);
	uplink_free(pilot.uplink);
	free(pilot.polls);
	return 0;
}
