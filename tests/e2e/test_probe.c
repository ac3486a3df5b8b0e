/* Probes. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static bool has_health(void *arg)
{
	return strcmp(field("box", "health"), arg) == 0;
}

static char ready[] = "ready", ailing[] = "ailing", none[] = "";

static void http_tells_ready_and_ailing(void)
{
	struct result *result;

	CODE(hull("launch selwick/gauge --name box --network own --probe "
		  "http:80/health,every=100ms,limit=2,grace=5s,timeout=1s"),
		0);
	CODE(hull("wait --until ready --at-most 20s box"), 0);
	SAYS(hull("list")->out, "running, ready");
	SAYS(hull("timeline box")->out, "its probe succeeded");
	CODE(hull("remove --force box"), 0);
	/* A page that is not there is no answer. */
	CODE(hull("launch selwick/gauge --name box --network own --probe "
		  "http:80/no-such-page,every=50ms,limit=2,grace=0"),
		0);
	CHECK(wait_until(has_health, ailing));
	result = hull("why box");
	SAYS(result->out, "it is ailing: its probe failed 2 times in a row");
	SAYS(result->out, "HTTP status 404");
	SAYS(hull("list")->out, "running, ailing");
	/* Another probe begins anew. */
	CODE(hull("adjust box --probe http:80/health,every=50ms"), 0);
	CODE(hull("wait --until ready --at-most 20s box"), 0);
	CODE(hull("adjust box --probe none"), 0);
	CHECK(wait_until(has_health, none));
	result = hull("wait --until ready box");
	CODE(result, 125);
	SAYS(result->err, "has no probe");
	CODE(hull("remove --force box"), 0);
}

static void tcp_waits_for_the_port(void)
{
	CODE(hull("launch selwick/base --name box --network own --probe "
		  "tcp:7000,every=50ms,limit=3,grace=20s -- sh -c 'sleep 0.5; "
		  "while :; do nc -l -p 7000 </dev/null; done'"),
		0);
	CHECK_TEXT(field("box", "health"), "warming");
	CODE(hull("wait --until ready --at-most 20s box"), 0);
	CODE(hull("remove --force box"), 0);
}

static void a_command_tells(void)
{
	CODE(hull("launch selwick/base --name box --network none --probe "
		  "'exec:test -e /tmp/up,every=50ms,limit=2,grace=0' -- sleep "
		  "1000"),
		0);
	CHECK(wait_until(has_health, ailing));
	SAYS(hull("why box")->out, "its command ended with code 1");
	CODE(hull("exec box -- touch /tmp/up"), 0);
	CHECK(wait_until(has_health, ready));
	/* It is no session of anybody's. */
	SAYS(hull("list sessions")->out, "no sessions are running");
	CODE(hull("remove --force box"), 0);
}

static void no_answer_in_time_is_none(void)
{
	CODE(hull("launch selwick/base --name box --network none --probe "
		  "'exec:sleep 100,every=50ms,timeout=100ms,limit=1,grace=0' "
		  "-- sleep 1000"),
		0);
	CHECK(wait_until(has_health, ailing));
	SAYS(hull("why box")->out, "no answer in time");
	CODE(hull("remove --force box"), 0);
}

static bool restarted(void *arg)
{
	(void)arg;
	return atoi(field("box", "restart.restarts")) >= 1;
}

static void what_ails_is_started_again(void)
{
	CODE(hull("launch selwick/base --name box --network none --restart "
		  "on-ailing,delay=10ms --probe 'exec:test -e "
		  "/tmp/up,every=50ms,limit=2,grace=0' -- sh -c 'touch "
		  "/tmp/up; "
		  "exec sleep 1000'"),
		0);
	CHECK(wait_until(has_health, ready));
	CODE(hull("exec box -- rm /tmp/up"), 0);
	CHECK(wait_until(restarted, NULL));
	CHECK(wait_until(has_health, ready));
	SAYS(hull("timeline box")->out, "its probe failed 2 times in a row");
	CODE(hull("remove --force box"), 0);
}

/* A container that ends is not ready any more, and who waits is told. */
static void who_waits_is_told_of_the_end(void)
{
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none --probe "
		  "'exec:false,every=50ms,grace=1h' -- sleep 1000"),
		0);
	pid = hull_start("out", "wait --until ready box");
	usleep(200000);
	CODE(hull("stop box"), 0);
	CHECK_INT(wait_for(pid), 125);
	CHECK(file_holds("out", "is not running"));
	CHECK_TEXT(field("box", "health"), "");
	CODE(hull("remove box"), 0);
	CODE(hull("launch selwick/base --probe ping:7"), 2);
}

static bool has_been_asked(void *arg)
{
	const char *log = hull("logs g")->out;
	int times = 0;

	(void)arg;
	for (; (log = strstr(log, "GET / 200")); log++)
		times++;
	return times > 5;
}

/* It gets its whole answer away before the connection is closed. */
static void a_server_is_not_left_in_the_middle(void)
{
	CODE(hull("launch selwick/gauge --name g --network none --probe "
		  "http:80/,every=50ms"),
		0);
	CHECK(wait_until(has_been_asked, NULL));
	CHECK_TEXT(field("g", "health"), "ready");
	CHECK(strstr(hull("logs g")->out, "the caller has gone") == NULL);
	CODE(hull("remove --force g"), 0);
}

static const CU_TestInfo tests[] = {
	{"http tells ready and ailing", http_tells_ready_and_ailing},
	{"tcp waits for the port", tcp_waits_for_the_port},
	{"a command tells", a_command_tells},
	{"no answer in time is none", no_answer_in_time_is_none},
	{"what ails is started again", what_ails_is_started_again},
	{"who waits is told of the end", who_waits_is_told_of_the_end},
	{"a server is not left in the middle",
		a_server_is_not_left_in_the_middle},
	CU_TEST_INFO_NULL};

const struct suite suite_probe = {"probe", tests};
