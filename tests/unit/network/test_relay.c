/* A relay between two ends of this process: what comes at a port arrives. */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "network/relay.h"
#include "unit/unit.h"

static struct sockaddr_in address_of(int port)
{
	struct sockaddr_in to = {
		.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};

	inet_pton(AF_INET, "127.0.0.1", &to.sin_addr);
	return to;
}

/* A listening port of the loopback. */
static struct th_port bind_port(int fds[2])
{
	struct th_port port = {.address = "127.0.0.1"};

	CHECK_INT(th_port_bind(&port, fds, NULL), 0);
	return port;
}

static int dial(int port)
{
	struct sockaddr_in to = address_of(port);
	int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);

	CHECK_INT(connect(fd, (struct sockaddr *)&to, sizeof(to)), 0);
	fcntl(fd, F_SETFL, O_NONBLOCK);
	return fd;
}

/* Rounds until something can be read, or the end; what read() says. */
static ssize_t read_soon(struct th_loop *loop, int fd, char *data, size_t size)
{
	ssize_t got = -1;

	for (int i = 0; i < 200; i++) {
		got = read(fd, data, size);
		if (got >= 0 || errno != EAGAIN)
			break;
		th_loop_round(loop, 20);
	}
	return got;
}

/* The connection that the relay makes to the inner end. */
static int accept_soon(struct th_loop *loop, int listener)
{
	int fd = -1;

	for (int i = 0; i < 200 && fd < 0; i++) {
		fd = accept4(
			listener, NULL, NULL, SOCK_CLOEXEC | SOCK_NONBLOCK);
		if (fd < 0)
			th_loop_round(loop, 20);
	}
	return fd;
}

static void both_ways_and_each_end(void)
{
	struct th_loop loop;
	int outer[2], inner[2], client, server;
	struct th_port port = bind_port(outer), inside = bind_port(inner);
	struct th_relay *relay;
	char data[64];

	CHECK_INT(th_loop_init(&loop, NULL), 0);
	relay = th_relay_new(&loop, -1, "127.0.0.1", "");
	port.port = inside.host_port;
	CHECK_INT(th_relay_serve(relay, &port, outer, NULL), 0);
	client = dial(port.host_port);
	server = accept_soon(&loop, inner[0]);
	CHECK(server >= 0);
	CHECK_INT(write(client, "high water", 10), 10);
	CHECK_INT(read_soon(&loop, server, data, sizeof(data)), 10);
	CHECK(memcmp(data, "high water", 10) == 0);
	CHECK_INT(write(server, "at 05:12", 8), 8);
	CHECK_INT(read_soon(&loop, client, data, sizeof(data)), 8);
	/* Half an end is one half only. */
	shutdown(client, SHUT_WR);
	CHECK_INT(read_soon(&loop, server, data, sizeof(data)), 0);
	CHECK_INT(write(server, "bye", 3), 3);
	CHECK_INT(read_soon(&loop, client, data, sizeof(data)), 3);
	close(server);
	CHECK_INT(read_soon(&loop, client, data, sizeof(data)), 0);
	close(client);
	th_relay_free(relay);
	th_close(&inner[0]);
	th_loop_release(&loop);
}

/* Who connects while nothing is behind the port is told at once. */
static void a_closed_one_resets(void)
{
	struct th_loop loop;
	int outer[2], client;
	struct th_port port = bind_port(outer);
	struct th_relay *relay;
	char byte;

	CHECK_INT(th_loop_init(&loop, NULL), 0);
	relay = th_relay_new_closed(&loop);
	CHECK_INT(th_relay_serve(relay, &port, outer, NULL), 0);
	client = dial(port.host_port);
	CHECK_INT(read_soon(&loop, client, &byte, 1), -1);
	CHECK_INT(errno, ECONNRESET);
	close(client);
	th_relay_free(relay);
	th_loop_release(&loop);
}

/* Nobody listens inside: the connection is reset, and others go on. */
static void a_refused_connection_is_told(void)
{
	struct th_loop loop;
	int outer[2], inner[2], client;
	struct th_port port = bind_port(outer), inside = bind_port(inner);
	struct th_relay *relay;
	char byte;

	CHECK_INT(th_loop_init(&loop, NULL), 0);
	th_close(&inner[0]);
	relay = th_relay_new(&loop, -1, "127.0.0.1", "");
	port.port = inside.host_port;
	CHECK_INT(th_relay_serve(relay, &port, outer, NULL), 0);
	for (int i = 0; i < 2; i++) {
		client = dial(port.host_port);
		CHECK(read_soon(&loop, client, &byte, 1) <= 0);
		close(client);
	}
	th_relay_free(relay);
	th_loop_release(&loop);
}

static const CU_TestInfo tests[] = {
	{"both ways and each end", both_ways_and_each_end},
	{"a closed one resets", a_closed_one_resets},
	{"a refused connection", a_refused_connection_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_relay = {"relay", tests};
