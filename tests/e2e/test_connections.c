/* Connections through published ports: many, at once, half closed, broken. */
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "e2e/harness.h"

#define PORT 8070
#define MANY 10000
#define TOGETHER 500

static int dial(int port)
{
	struct sockaddr_in at = {.sin_family = AF_INET,
		.sin_port = htons((uint16_t)port),
		.sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	const struct timeval patience = {.tv_sec = 30};
	int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);

	setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
	if (connect(fd, (struct sockaddr *)(void *)&at, sizeof(at)) == 0)
		return fd;
	close(fd);
	return -1;
}

/* Asks; the client's half is closed then, and the answer still comes. */
static bool is_answered(int fd)
{
	static const char question[] = "LIST\n";
	char text[64] = "";
	size_t len = 0;
	ssize_t got;

	if (send(fd, question, 5, MSG_NOSIGNAL) != 5 || shutdown(fd, SHUT_WR))
		return false;
	while (len < sizeof(text) - 1 &&
		(got = recv(fd, text + len, sizeof(text) - 1 - len, 0)) > 0)
		len += (size_t)got;
	return strcmp(text, "end\n") == 0;
}

static bool serves(void *arg)
{
	int fd = dial(*(int *)arg);
	bool good = fd >= 0 && is_answered(fd);

	if (fd >= 0)
		close(fd);
	return good;
}

/* What /inside/peer says who is connected; "" where nothing. Until it is called
 * again. */
static const char *seen_as(int port)
{
	static char text[80];
	size_t len = 0;
	ssize_t got;
	int fd = dial(port);

	while (fd >= 0 && len < sizeof(text) - 1 &&
		(got = recv(fd, text + len, sizeof(text) - 1 - len, 0)) > 0)
		len += (size_t)got;
	text[len] = '\0';
	text[strcspn(text, "\n")] = '\0';
	if (fd >= 0)
		close(fd);
	return text;
}

static bool is_ready(void *arg)
{
	return strstr(hull("logs %s", (const char *)arg)->out, "ready") != NULL;
}

static void launch_peer(char *name, const char *network, const char *address)
{
	CODE(hull("launch selwick/base --name %s --network %s --port 70=%d "
		  "--mount /inside=%s/inside,ro -- /inside/peer %s 70",
		     name, network, PORT, world_build, address),
		0);
	CHECK(wait_until(is_ready, name));
}

/* Some trust what comes from their own address more than what comes over the
 * network. */
static void a_server_sees_the_bridge(void)
{
	static char open[] = "open", shy[] = "shy", alone[] = "alone";

	CODE(hull("new network berths --subnet 10.20.30.0/28"), 0);
	launch_peer(open, "berths", "::");
	for (int i = 0; i < 20; i++)
		CHECK_TEXT(seen_as(PORT), "::ffff:10.20.30.1");
	CODE(hull("remove --force open"), 0);
	/* What listens on the loopback only is found there, again and again. */
	launch_peer(shy, "berths", "::ffff:127.0.0.1");
	for (int i = 0; i < 20; i++)
		CHECK_TEXT(seen_as(PORT), "::ffff:127.0.0.1");
	CODE(hull("remove --force shy"), 0);
	launch_peer(shy, "berths", "::1");
	CHECK_TEXT(seen_as(PORT), "::1");
	CODE(hull("stop shy --grace 0s"), 0);
	CODE(hull("start shy"), 0);
	CHECK(wait_until(is_ready, shy));
	CHECK_TEXT(seen_as(PORT), "::1");
	CODE(hull("remove --force shy network:berths"), 0);
	/* Where there is no bridge, there is no other address. */
	launch_peer(alone, "own", "::");
	CHECK_TEXT(seen_as(PORT), "::ffff:127.0.0.1");
	CODE(hull("remove --force alone"), 0);
}

static void many_short_connections(void)
{
	int port = PORT, good = 0, fds[TOGETHER];

	CODE(hull("launch selwick/ledger --name ledger --port 7070=%d", PORT),
		0);
	CHECK(wait_until(serves, &port));
	for (int i = 0; i < MANY; i++) {
		int fd = dial(PORT);

		good += fd >= 0 && is_answered(fd);
		if (fd >= 0)
			close(fd);
	}
	CHECK_INT(good, MANY);
	/* All of them connected before the first one asks. */
	good = 0;
	for (int i = 0; i < TOGETHER; i++)
		fds[i] = dial(PORT);
	for (int i = TOGETHER; i-- > 0;) {
		/* The ledger hears one after the other, in their order. */
		if (fds[i] >= 0)
			good += send(fds[i], "LIST\n", 5, MSG_NOSIGNAL) == 5 &&
				shutdown(fds[i], SHUT_WR) == 0;
	}
	CHECK_INT(good, TOGETHER);
	good = 0;
	for (int i = 0; i < TOGETHER; i++) {
		char text[16] = "";

		good += fds[i] >= 0 &&
			recv(fds[i], text, sizeof(text) - 1, MSG_WAITALL) ==
				4 &&
			strcmp(text, "end\n") == 0;
		if (fds[i] >= 0)
			close(fds[i]);
	}
	CHECK_INT(good, TOGETHER);
	CHECK(serves(&port));
	CODE(hull("remove --force ledger"), 0);
}

/* Reads until the end: bytes, or -1 where the connection is reset. */
static long read_all(int fd)
{
	char text[65536];
	long all = 0;
	ssize_t got;

	while ((got = recv(fd, text, sizeof(text), 0)) > 0)
		all += got;
	return got < 0 ? -1 : all;
}

static void breaks_are_passed_on(void)
{
	const struct linger at_once = {.l_onoff = 1, .l_linger = 0};
	int port = PORT, silent = PORT + 1, fd;

	CODE(hull("launch selwick/ledger --name ledger --port 7070=%d --port "
		  "9999=%d",
		     PORT, PORT + 1),
		0);
	CHECK(wait_until(serves, &port));
	/* Nobody listens inside: the client is reset. */
	fd = dial(silent);
	CHECK(fd >= 0);
	CHECK_INT(read_all(fd), -1);
	CHECK_INT(errno, ECONNRESET);
	close(fd);
	/* Who resets in the middle of a line leaves the next one his turn. */
	fd = dial(PORT);
	CHECK_INT(send(fd, "BOOK b", 6, MSG_NOSIGNAL), 6);
	setsockopt(fd, SOL_SOCKET, SO_LINGER, &at_once, sizeof(at_once));
	close(fd);
	CHECK(serves(&port));
	/* Who is connected when it ends sees an end, or a break. */
	fd = dial(PORT);
	CHECK_INT(send(fd, "LIST\n", 5, MSG_NOSIGNAL), 5);
	CODE(hull("kill ledger"), 0);
	CODE(hull("wait ledger"), 137);
	read_all(fd);
	close(fd);
	CHECK_INT(dial(PORT), -1);
	CODE(hull("remove ledger"), 0);
}

/* The server sends much more than anybody reads for a while. */
static void a_slow_reader_loses_nothing(void)
{
	struct pollfd ready;
	int fd = -1;
	long all = 0;

	CODE(hull("launch selwick/base --name flood --port 90=%d -- sh -c 'dd "
		  "if=/dev/zero bs=1M count=64 | busybox nc -l -p 90'",
		     PORT),
		0);
	for (int tries = 0; all <= 0 && tries < 100; tries++) {
		char byte;

		fd = dial(PORT);
		all = fd >= 0 && recv(fd, &byte, 1, 0) == 1;
		if (all <= 0 && fd >= 0)
			close(fd);
		usleep(50000);
	}
	ready = (struct pollfd){.fd = fd, .events = POLLIN};
	for (int i = 0; i < 20; i++) {
		char text[1000];

		usleep(10000);
		CHECK_INT(poll(&ready, 1, 5000), 1);
		all += recv(fd, text, sizeof(text), MSG_WAITALL);
	}
	CHECK_INT(all + read_all(fd), 64l << 20);
	close(fd);
	/* It may have ended by itself. */
	hull("kill flood");
	CODE(hull("remove --force flood"), 0);
}

static const CU_TestInfo tests[] = {
	{"a server sees the bridge", a_server_sees_the_bridge},
	{"many short connections", many_short_connections},
	{"breaks are passed on", breaks_are_passed_on},
	{"a slow reader loses nothing", a_slow_reader_loses_nothing},
	CU_TEST_INFO_NULL};

const struct suite suite_connections = {"connections", tests};
