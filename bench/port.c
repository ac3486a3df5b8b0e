/* Published ports against the same server without a container: on this host
 * (the relay), and from another one (the packet filter). All in network
 * namespaces of its own. */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "bench.h"
#include "echo.h"

#define STREAM_BYTES (768LL << 20)
#define REQUESTS 20000
#define CONNECTIONS 2000
/* The server here, and the one in the container. */
#define PLAIN 9001
#define PUBLISHED 9101

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

/* In a process of its own, which is in the network namespace (-1: here). */
static int measure(
	int netns, const char *address, int port, struct figures *figures)
{
	int pair[2], status = 0, rc;
	pid_t pid;

	if (pipe2(pair, O_CLOEXEC))
		return -1;
	pid = fork();
	if (pid == 0) {
		struct figures one = {0};

		if ((netns >= 0 && setns(netns, CLONE_NEWNET)) ||
			measure_stream(address, port, &one.rate) ||
			measure_requests(address, port, &one.latency) ||
			measure_connections(address, port, &one.connections) ||
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

static void compare(const char *what, const double budget[3], int netns,
	const char *address, size_t rounds)
{
	double rates[2][ROUNDS_MAX], latencies[2][ROUNDS_MAX];
	double shorts[2][ROUNDS_MAX];
	struct figures plain = {0}, ours = {0};
	char name[64];

	for (size_t i = 0; i < rounds; i++) {
		if (measure(netns, address, PLAIN, &plain) ||
			measure(netns, address, PUBLISHED, &ours)) {
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

static void take_down(const char *build, const char *folder)
{
	char line[1200];

	snprintf(line, sizeof(line),
		"TIDYHULL_ROOT=%.200s/ports %.600s/tidyhull remove --force "
		"--quiet server; kill $(cat plain.pid)",
		folder, build);
	bench_run(folder, line);
}

static void measure_all(const char *build, const char *folder, size_t rounds)
{
	static const double relay[] = {0.6, 1.7, 0.7}, filter[] = {0.9, 1.3, 0};
	int outside;

	if (unshare(CLONE_NEWNET | CLONE_NEWNS) ||
		mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL) ||
		mount("run", "/run", "tmpfs", 0, NULL)) {
		perror("bench: ports");
		return;
	}
	set_up(build, folder);
	compare("port by the relay", relay, -1, "127.0.0.1", rounds);
	outside = open("/run/netns/outside", O_RDONLY | O_CLOEXEC);
	compare("port by the packet filter", filter, outside, "192.0.2.1",
		rounds);
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
