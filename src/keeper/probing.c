/* Asking a running container whether it does its work. One question at a time;
 * nothing here ever waits. */
#include "model/probe.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "sandbox/rights.h"
#include "network/inner.h"

/* More of an answer than this is not read. */
#define REST_MAX (256u * 1024)
#define REST_MS 300

static void ask_next_address(struct keeper *keeper, const char *why);

/* While it is warming it is asked every second: who waits for it should not
 * wait for the next of the later, longer pauses. */
static int64_t pause_ms(const struct probing *probing)
{
	int64_t every = probing->probe.every_ms;

	if (probing->health.ready || probing->health.ailing || every < 1000)
		return every;
	return 1000;
}

void keeper_probe_begin(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;

	memset(&probing->health, 0, sizeof(probing->health));
	probing->asking = false;
	probing->watch.fd = -1;
	probing->pid = 0;
	probing->next_ms = th_clock_mono_ms() + pause_ms(probing);
	if (probing->probe.kind == TH_PROBE_TCP ||
		probing->probe.kind == TH_PROBE_HTTP)
		probing->inside = keeper->plugs.netns >= 0
			? inner_new(keeper->plugs.netns)
			: NULL;
}

static void stop_asking(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;
	int fd = probing->watch.fd;

	probing->judged = false;
	th_loop_forget(&keeper->loop, &probing->watch);
	/* What it watches while a command joins is the joining's own. */
	if (probing->is_joining)
		th_join_abandon(&probing->joining);
	else
		th_close(&fd);
	probing->is_joining = false;
	probing->watch.fd = -1;
	if (probing->pid) {
		kill(probing->pid, SIGKILL);
		while (waitpid(probing->pid, NULL, __WALL) < 0 &&
			errno == EINTR)
			;
		probing->pid = 0;
	}
	probing->asking = false;
}

void keeper_probe_end(struct keeper *keeper)
{
	stop_asking(keeper);
	inner_free(keeper->probing.inside);
	keeper->probing.inside = NULL;
}

/* why is what was wrong, or NULL where all was well. */
static void take_answer(struct keeper *keeper, const char *why)
{
	struct probing *probing = &keeper->probing;
	int64_t now = th_clock_mono_ms();
	struct th_cause cause = {
		.kind = why ? TH_CAUSE_PROBE_FAILED : TH_CAUSE_PROBE_SUCCEEDED};

	stop_asking(keeper);
	if (!th_health_take(&probing->health, &probing->probe, !why,
		    now - keeper->started_ms)) {
		keeper_notify_health(keeper, !why, why);
		probing->next_ms = now + pause_ms(probing);
		return;
	}
	keeper_notify_health(keeper, !why, why);
	probing->next_ms = now + pause_ms(probing);
	if (why) {
		cause.number = probing->health.failures;
		snprintf(cause.text, sizeof(cause.text), "%s", why);
	}
	keeper_note_health(keeper, &cause, th_health_word(&probing->health));
	if (probing->health.ready)
		keeper_tell_ready(keeper);
	if (probing->health.ailing && keeper->policy.on_ailing &&
		!keeper->stopping.asked) {
		keeper->stopping.ailing = true;
		keeper_begin_stop(keeper, keeper->plan.stop_signal,
			keeper->plan.grace_ms, &cause, "keeper");
	}
}

/* "HTTP/1.1 204 No Content": the number, or 0 (RFC 9112, section 4). */
static int http_status(const char *answer)
{
	const char *space = strchr(answer, ' ');

	if (strncmp(answer, "HTTP/", 5) != 0 || !space ||
		strspn(space + 1, "0123456789") < 3)
		return 0;
	return (space[1] - '0') * 100 + (space[2] - '0') * 10 +
		(space[3] - '0');
}

static void give_verdict(struct keeper *keeper)
{
	const char *verdict = keeper->probing.verdict;
	char why[80];

	snprintf(why, sizeof(why), "%s", verdict);
	take_answer(keeper, *why ? why : NULL);
}

/* A server that is left in the middle of its answer takes that for an error,
 * and fills its log with it. */
static void let_rest_pass(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;
	char rest[4096];
	ssize_t got = read(probing->watch.fd, rest, sizeof(rest));

	if (got < 0 && (errno == EAGAIN || errno == EINTR))
		return;
	probing->passed += got > 0 ? (size_t)got : 0;
	if (got <= 0 || probing->passed > REST_MAX)
		give_verdict(keeper);
}

static void read_answer(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;
	size_t room = sizeof(probing->answer) - 1 - probing->answer_len;
	ssize_t got = read(
		probing->watch.fd, probing->answer + probing->answer_len, room);
	int status;

	if (got < 0 && (errno == EAGAIN || errno == EINTR))
		return;
	if (got > 0) {
		probing->answer_len += (size_t)got;
		probing->answer[probing->answer_len] = '\0';
		if (probing->answer_len < 12)
			return;
	}
	status = probing->answer_len < 12 ? 0 : http_status(probing->answer);
	if (th_probe_accepts(&probing->probe, status))
		probing->verdict[0] = '\0';
	else if (status)
		snprintf(probing->verdict, sizeof(probing->verdict),
			"HTTP status %d", status);
	else
		snprintf(probing->verdict, sizeof(probing->verdict),
			"no answer in HTTP");
	probing->judged = got > 0;
	probing->passed = 0;
	/* One that keeps the connection in spite of what it was asked. */
	if (probing->until_ms > th_clock_mono_ms() + REST_MS)
		probing->until_ms = th_clock_mono_ms() + REST_MS;
	if (got <= 0)
		give_verdict(keeper);
}

static void send_question(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;
	char text[512];
	int len;

	len = snprintf(text, sizeof(text),
		"GET %s HTTP/1.1\r\nHost: localhost:%d\r\n"
		"User-Agent: tidyhull-probe\r\nConnection: close\r\n\r\n",
		probing->probe.path, probing->probe.port);
	/* So little always fits into a new socket. */
	if (send(probing->watch.fd, text, (size_t)len, MSG_NOSIGNAL) != len) {
		take_answer(keeper, "the connection was closed");
		return;
	}
	probing->answer_len = 0;
	th_loop_change(&keeper->loop, &probing->watch, EPOLLIN);
}

static void socket_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct probing *probing = &keeper->probing;
	socklen_t len = sizeof(int);
	int sys = 0;

	(void)events;
	if (!probing->connecting) {
		if (probing->judged)
			let_rest_pass(keeper);
		else
			read_answer(keeper);
		return;
	}
	getsockopt(watch->fd, SOL_SOCKET, SO_ERROR, &sys, &len);
	if (sys) {
		ask_next_address(keeper,
			sys == ECONNREFUSED ? "nothing listens on its port"
					    : strerror(sys));
		return;
	}
	probing->connecting = false;
	if (probing->probe.kind == TH_PROBE_TCP)
		take_answer(keeper, NULL);
	else
		send_question(keeper);
}

/* Its loopback, then its own addresses: a server may listen on either. */
static int address_of(
	const struct keeper *keeper, int number, struct sockaddr_storage *to)
{
	const char *const texts[] = {"127.0.0.1", keeper->plugs.joined.address4,
		"::1", keeper->plugs.joined.address6};
	uint16_t port = htons((uint16_t)keeper->probing.probe.port);
	struct sockaddr_in *four = (struct sockaddr_in *)(void *)to;
	struct sockaddr_in6 *six = (struct sockaddr_in6 *)(void *)to;

	memset(to, 0, sizeof(*to));
	if (number > 3)
		return 0;
	if (number < 2) {
		four->sin_family = AF_INET;
		four->sin_port = port;
		return inet_pton(AF_INET, texts[number], &four->sin_addr) == 1;
	}
	six->sin6_family = AF_INET6;
	six->sin6_port = port;
	return inet_pton(AF_INET6, texts[number], &six->sin6_addr) == 1;
}

static int connect_to(struct keeper *keeper, struct sockaddr_storage *to)
{
	struct probing *probing = &keeper->probing;
	socklen_t len = to->ss_family == AF_INET ? sizeof(struct sockaddr_in)
						 : sizeof(struct sockaddr_in6);
	int fd = probing->inside
		? inner_socket(probing->inside, to->ss_family, SOCK_STREAM)
		: socket(to->ss_family,
			  SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);

	if (fd < 0)
		return -1;
	probing->watch.owner = keeper;
	probing->watch.ready = socket_ready;
	probing->connecting = true;
	if ((connect(fd, (struct sockaddr *)(void *)to, len) == 0 ||
		    errno == EINPROGRESS) &&
		th_loop_watch(&keeper->loop, &probing->watch, fd, EPOLLOUT) ==
			0)
		return 0;
	close(fd);
	return -1;
}

static void ask_next_address(struct keeper *keeper, const char *why)
{
	struct probing *probing = &keeper->probing;
	int fd = probing->watch.fd;

	th_loop_forget(&keeper->loop, &probing->watch);
	th_close(&fd);
	while (probing->target < 4) {
		struct sockaddr_storage to;

		if (address_of(keeper, probing->target++, &to) &&
			connect_to(keeper, &to) == 0)
			return;
	}
	take_answer(keeper, why);
}

static void command_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct probing *probing = &keeper->probing;
	char why[64];
	int status = 0;

	(void)events;
	if (waitpid(probing->pid, &status, WNOHANG) <= 0)
		return;
	probing->pid = 0;
	if (WIFEXITED(status) && WEXITSTATUS(status) == 0) {
		take_answer(keeper, NULL);
		return;
	}
	if (WIFEXITED(status))
		snprintf(why, sizeof(why), "its command ended with code %d",
			WEXITSTATUS(status));
	else
		snprintf(why, sizeof(why), "its command ended by signal %d",
			WTERMSIG(status));
	take_answer(keeper, why);
}

/* The command is on its way into the container. */
static void step_on(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;
	struct th_error err = {0};
	struct th_sandbox made;
	int rc, fd;

	th_loop_forget(&keeper->loop, &probing->watch);
	th_rights_raise();
	rc = th_join_step(&probing->joining, &made, &err);
	th_rights_rest();
	if (rc < 0) {
		probing->is_joining = false;
		probing->watch.fd = -1;
		take_answer(keeper, err.msg);
		return;
	}
	fd = rc ? made.pidfd : th_join_fd(&probing->joining);
	if (rc) {
		probing->is_joining = false;
		probing->pid = made.pid;
		probing->watch.ready = command_ready;
	}
	if (th_loop_watch(&keeper->loop, &probing->watch, fd, EPOLLIN) == 0)
		return;
	if (rc)
		th_close(&made.pidfd);
	probing->watch.fd = -1;
	take_answer(keeper, "it could not be watched");
}

static void joining_ready(struct th_watch *watch, uint32_t events)
{
	(void)events;
	step_on(watch->owner);
}

static void run_command(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;
	struct th_process process = keeper->bundle.process;
	struct th_error err = {0};
	int null = open("/dev/null", O_RDWR | O_CLOEXEC);
	struct th_join_options options = {.target_pidfd = keeper->sandbox.pidfd,
		.namespaces = th_bundle_own_namespaces(&keeper->bundle),
		.cgroup = &keeper->cgroup,
		.filter_flags = keeper->bundle.seccomp.flags,
		.process = &process,
		.stdio = {null, null, null},
		.program = -1};

	process.args = probing->probe.command;
	process.terminal = false;
	if (keeper_filter(keeper, &options.filter, &err) ||
		th_join_begin(&options, &probing->joining, &err)) {
		th_close(&null);
		take_answer(keeper, err.msg);
		return;
	}
	th_close(&null);
	probing->is_joining = true;
	probing->watch.owner = keeper;
	probing->watch.ready = joining_ready;
	step_on(keeper);
}

int64_t keeper_probe_due(const struct keeper *keeper)
{
	const struct probing *probing = &keeper->probing;
	int64_t left;

	if (!probing->probe.kind || keeper->pausing.paused ||
		keeper->stopping.asked)
		return -1;
	left = (probing->asking ? probing->until_ms : probing->next_ms) -
		th_clock_mono_ms();
	return left < 0 ? 0 : left;
}

void keeper_probe_work(struct keeper *keeper)
{
	struct probing *probing = &keeper->probing;

	if (keeper_probe_due(keeper) != 0)
		return;
	if (probing->asking && probing->judged) {
		give_verdict(keeper);
		return;
	}
	if (probing->asking) {
		take_answer(keeper, "no answer in time");
		return;
	}
	probing->asking = true;
	probing->until_ms = th_clock_mono_ms() + probing->probe.timeout_ms;
	probing->target = 0;
	if (probing->probe.kind == TH_PROBE_EXEC) {
		th_rights_raise();
		run_command(keeper);
		th_rights_rest();
	} else {
		ask_next_address(keeper, "no address to connect to");
	}
}

void keeper_probe_take(struct keeper *keeper, struct th_probe *probe)
{
	th_probe_release(&keeper->probing.probe);
	keeper->probing.probe = *probe;
	memset(probe, 0, sizeof(*probe));
}

const char *keeper_health_word(const struct keeper *keeper)
{
	return keeper->probing.probe.kind
		? th_health_word(&keeper->probing.health)
		: "";
}

bool keeper_is_ready(const struct keeper *keeper)
{
	return keeper->probing.health.ready;
}
