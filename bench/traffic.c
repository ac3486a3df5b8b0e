/* One stream, single requests and short connections to the server of echo.c, by
 * two ways in turns. */
#include "traffic.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sched.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "bench.h"
#include "echo.h"

#define STREAM_BYTES (768LL << 20)
#define REQUESTS 20000
#define CONNECTIONS 2000

struct figures {
	double rate; /* bytes a second of one stream */
	double latency; /* seconds of one request, the middle one */
	double connections; /* short ones a second, one after the other */
};

static double now(void)
{
	struct timespec time;

	clock_gettime(CLOCK_MONOTONIC, &time);
	return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

static int dial(const char *address, int port)
{
	struct sockaddr_in to = {
		.sin_family = AF_INET, .sin_port = htons((unsigned short)port)};
	int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0), one = 1;

	inet_pton(AF_INET, address, &to.sin_addr);
	if (connect(fd, (struct sockaddr *)(void *)&to, sizeof(to))) {
		close(fd);
		return -1;
	}
	setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof(one));
	return fd;
}

static int measure_stream(const char *address, int port, double *rate)
{
	static char block[256 * 1024];
	int fd = dial(address, port);
	double begin = now();

	if (fd < 0 || send(fd, "s", 1, MSG_NOSIGNAL) != 1)
		return -1;
	for (long long left = STREAM_BYTES; left > 0;) {
		ssize_t sent = send(fd, block, sizeof(block), MSG_NOSIGNAL);

		if (sent < 0)
			return -1;
		left -= sent;
	}
	shutdown(fd, SHUT_WR);
	if (recv(fd, block, 1, 0) != 1)
		return -1;
	*rate = (double)STREAM_BYTES / (now() - begin);
	close(fd);
	return 0;
}

static int measure_requests(const char *address, int port, double *latency)
{
	static double times[REQUESTS];
	char block[ECHO_BYTES] = "";
	int fd = dial(address, port);

	if (fd < 0 || send(fd, "r", 1, MSG_NOSIGNAL) != 1)
		return -1;
	for (int i = 0; i < REQUESTS; i++) {
		double begin = now();

		if (send(fd, block, sizeof(block), MSG_NOSIGNAL) !=
				sizeof(block) ||
			recv(fd, block, sizeof(block), MSG_WAITALL) !=
				sizeof(block))
			return -1;
		times[i] = now() - begin;
	}
	*latency = bench_median(times, REQUESTS);
	close(fd);
	return 0;
}

static int measure_connections(
	const char *address, int port, double *connections)
{
	char block[ECHO_BYTES] = "";
	double begin = now();

	for (int i = 0; i < CONNECTIONS; i++) {
		int fd = dial(address, port);

		if (fd < 0 || send(fd, "r", 1, MSG_NOSIGNAL) != 1 ||
			send(fd, block, sizeof(block), MSG_NOSIGNAL) !=
				sizeof(block) ||
			recv(fd, block, sizeof(block), MSG_WAITALL) !=
				sizeof(block))
			return -1;
		close(fd);
	}
	*connections = CONNECTIONS / (now() - begin);
	return 0;
}

/* In a process of its own, which is in the namespace it starts from. */
static int measure(const struct way *way, struct figures *figures)
{
	int pair[2], status = 0, rc;
	pid_t pid;

	if (pipe2(pair, O_CLOEXEC))
		return -1;
	pid = fork();
	if (pid == 0) {
		struct figures one = {0};

		if ((way->netns != HERE && setns(way->netns, CLONE_NEWNET)) ||
			measure_stream(way->address, way->port, &one.rate) ||
			measure_requests(
				way->address, way->port, &one.latency) ||
			measure_connections(
				way->address, way->port, &one.connections) ||
			write(pair[1], &one, sizeof(one)) != sizeof(one))
			_exit(1);
		_exit(0);
	}
	close(pair[1]);
	rc = read(pair[0], figures, sizeof(*figures)) == sizeof(*figures) ? 0
									  : -1;
	close(pair[0]);
	waitpid(pid, &status, 0);
	return rc;
}

void traffic_compare(const char *what, const double budget[3],
	const struct way *our_way, const struct way *floor, size_t rounds)
{
	double rates[2][ROUNDS_MAX], latencies[2][ROUNDS_MAX];
	double shorts[2][ROUNDS_MAX];
	struct figures plain = {0}, ours = {0};
	char name[64];

	for (size_t i = 0; i < rounds; i++) {
		if (measure(floor, &plain) || measure(our_way, &ours)) {
			fprintf(stderr, "bench: %s: nobody answers\n", what);
			return;
		}
		rates[0][i] = ours.rate * 8 / 1e9;
		rates[1][i] = plain.rate * 8 / 1e9;
		latencies[0][i] = ours.latency * 1e6;
		latencies[1][i] = plain.latency * 1e6;
		shorts[0][i] = ours.connections / 1e3;
		shorts[1][i] = plain.connections / 1e3;
	}
	snprintf(name, sizeof(name), "%s: rate", what);
	bench_row(name, "Gbit/s", rates[0], rates[1], rounds,
		(struct bound){budget[0], true});
	snprintf(name, sizeof(name), "%s: latency", what);
	bench_row(name, "us", latencies[0], latencies[1], rounds,
		(struct bound){budget[1], false});
	snprintf(name, sizeof(name), "%s: connections", what);
	bench_row(name, "k/s", shorts[0], shorts[1], rounds,
		(struct bound){budget[2], true});
}
