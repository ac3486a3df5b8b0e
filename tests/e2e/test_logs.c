/* Logs: rotation, following, several at once, everything or nothing. */
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/clock.h"
#include "e2e/harness.h"

static void wait_for_end(const char *name)
{
	hull("wait -q %s", name);
}

static void they_rotate_and_lose_nothing(void)
{
	char path[300];
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none --log "
		  "size=64K,files=100 -- sh -c 'sleep 0.3; seq 1 30000'"),
		0);
	pid = hull_start("followed", "logs --follow box");
	wait_for_end("box");
	CHECK_INT(wait_for(pid), 0);
	snprintf(path, sizeof(path), "%s/containers/%s", world_store,
		field("box", "id"));
	CHECK(atoi(as_root("sh -c 'ls %s/log*.jsonl | wc -l'", path)->out) > 5);
	CHECK_INT(wait_for(hull_start("read", "logs box")), 0);
	other("sh -c 'seq 1 30000 > wanted'");
	CODE(other("cmp wanted read"), 0);
	CODE(other("cmp wanted followed"), 0);
	/* The last ones are found across files, too. */
	CODE(other("sh -c 'tail -n 12000 wanted > tail'"), 0);
	CHECK_INT(wait_for(hull_start("last", "logs --last 12000 box")), 0);
	CODE(other("cmp tail last"), 0);
	CODE(hull("remove box"), 0);
	CODE(hull("launch selwick/base --log size=1"), 2);
}

static void old_files_go_where_it_is_wanted(void)
{
	struct result *result;

	CODE(hull("launch selwick/base --name box --network none --log "
		  "size=64K,files=2 -- seq 1 30000"),
		0);
	wait_for_end("box");
	result = hull("logs --last 1 box");
	CHECK_TEXT(result->out, "30000\n");
	CHECK_TEXT(result->err, "");
	result = hull("logs box");
	CHECK(strncmp(result->out, "1\n", 2) != 0);
	/* Nobody takes the rest for all of it. */
	SAYS(result->err,
		"note: the oldest lines of box are no longer kept; create it "
		"with --log files=N to keep more");
	CHECK_TEXT(hull("logs box --quiet")->err, "");
	CODE(hull("remove box"), 0);
}

static void streams_and_times(void)
{
	struct result *result;
	char since[64];

	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'echo one; echo two >&2; sleep 1.2; echo three; echo four "
		  ">&2'"),
		0);
	wait_for_end("box");
	result = hull("logs --stream out box");
	CHECK_TEXT(result->out, "one\nthree\n");
	CHECK_TEXT(result->err, "");
	result = hull("logs --stream err --last 1 box");
	CHECK_TEXT(result->err, "four\n");
	CHECK_TEXT(result->out, "");
	result = hull("logs --times --last 2 --stream out box");
	CHECK(strlen(result->out) ==
		2 * strlen("2026-03-01T05:12:44.123456Z  ") +
			strlen("one\nthree\n"));
	snprintf(since, sizeof(since), "%.27s", strchr(result->out, '\n') + 1);
	result = hull("logs --since %s box", since);
	CHECK_TEXT(result->out, "three\n");
	result = hull("logs --until %s box", since);
	CHECK_TEXT(result->out, "one\nthree\n");
	CHECK_TEXT(
		hull("logs --since 1h box --stream out")->out, "one\nthree\n");
	CODE(hull("logs --stream both box"), 2);
	CODE(hull("logs --since yesterday box"), 2);
	CODE(hull("remove box"), 0);
}

static void several_are_put_together_by_time(void)
{
	struct result *result;
	pid_t pid;

	CODE(hull("launch selwick/base --name north --network none -- sh -c "
		  "'echo n1; sleep 0.4; echo n2'"),
		0);
	CODE(hull("launch selwick/base --name south-pier --network none -- sh "
		  "-c 'sleep 0.2; echo s1; sleep 0.4; echo s2'"),
		0);
	pid = hull_start("out", "logs --follow north south-pier");
	wait_for_end("south-pier");
	CHECK_INT(wait_for(pid), 0);
	result = hull("logs north south-pier");
	CHECK_TEXT(result->out,
		"north:      n1\nsouth-pier: s1\n"
		"north:      n2\nsouth-pier: s2\n");
	CHECK(file_holds("out", "north:      n2\n"));
	CHECK(file_holds("out", "south-pier: s2\n"));
	/* One failure does not stop the others. */
	result = hull("logs nosuch north");
	CODE(result, 3);
	SAYS(result->out, "n2");
	CODE(hull("remove north south-pier"), 0);
}

static void following_goes_on_over_restarts(void)
{
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none --restart "
		  "on-failure,tries=2,delay=100ms -- sh -c 'echo run; exit 1'"),
		0);
	pid = hull_start("out", "logs --follow box");
	CHECK_INT(wait_for(pid), 0);
	CHECK_INT(count_lines_with("out", "run", ""), 3);
	CODE(hull("start box"), 0);
	pid = hull_start("out", "logs --follow --last 0 box");
	CODE(hull("restart box"), 0);
	CHECK_INT(wait_for(pid), 0);
	CHECK(count_lines_with("out", "run", "") >= 1);
	CODE(hull("remove --force box"), 0);
}

/* The systemd journal, as it would listen. */
static void the_journal_gets_it_too(void)
{
	static const char path[] = "/run/systemd/journal/socket";
	struct sockaddr_un at = {.sun_family = AF_UNIX};
	const struct timeval patience = {.tv_sec = 10};
	char text[4096];
	ssize_t got;
	int fd;

	as_root("mkdir -p /run/systemd/journal");
	snprintf(at.sun_path, sizeof(at.sun_path), "%s", path);
	unlink(path);
	fd = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
	CHECK_INT(bind(fd, (struct sockaddr *)(void *)&at, sizeof(at)), 0);
	chmod(path, 0666);
	setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
	CODE(hull("launch selwick/base --name box --network none --log journal "
		  "-- sh -c 'echo high water >&2'"),
		0);
	got = recv(fd, text, sizeof(text) - 1, 0);
	CHECK(got > 0);
	text[got > 0 ? got : 0] = '\0';
	SAYS(text, "TIDYHULL_CONTAINER=box\n");
	SAYS(text, "PRIORITY=3\nMESSAGE\n");
	CHECK(got > 12 && memcmp(text + got - 11, "high water\n", 11) == 0);
	close(fd);
	unlink(path);
	rmdir("/run/systemd/journal");
	rmdir("/run/systemd");
	wait_for_end("box");
	CHECK_TEXT(hull("logs box")->err, "high water\n");
	CODE(hull("remove box"), 0);
}

static bool reported(void *arg)
{
	return strstr(hull("timeline box")->out, arg) != NULL;
}

/* A disk of one megabyte below the container's folder. */
static void a_full_disk_is_told_and_stops_nothing(void)
{
	char full[] = "its log cannot be written",
	     again[] = "is being written again";
	char folder[300];

	CODE(hull("create selwick/base --name box --network none -- sh -c "
		  "'i=0; while :; do i=$((i+1)); echo \"$i the tide comes and "
		  "goes and comes and goes and comes and goes\"; [ $((i%%500)) "
		  "= 0 ] && sleep 0.01; done'"),
		0);
	snprintf(folder, sizeof(folder), "%s/containers/%s", world_store,
		field("box", "id"));
	/* The log's file lies on a small disk of its own. */
	as_root("mkdir %s.small", folder);
	as_root("mount -t tmpfs -o size=1M,mode=777 small %s.small", folder);
	as_root("ln -s ../%s.small/log.jsonl %s/log.jsonl",
		strrchr(folder, '/') + 1, folder);
	CODE(hull("start box"), 0);
	CHECK(wait_until(reported, full));
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("exec box -- true"), 0);
	as_root("mount -o remount,size=64M %s.small", folder);
	CHECK(wait_until(reported, again));
	CODE(hull("remove --force box"), 0);
	as_root("umount %s.small", folder);
	as_root("rmdir %s.small", folder);
}

/* As fast as it can: no line is lost, the keeper stays small, and a stop is a
 * stop. */
static void a_flood_loses_no_line(void)
{
	static const char count[] = "2000000";
	int64_t begin;
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none -- seq 1 %s",
		     count),
		0);
	wait_for_end("box");
	pid = hull_start("read", "logs box");
	CHECK_INT(wait_for(pid), 0);
	other("sh -c 'seq 1 %s > wanted'", count);
	CODE(other("cmp wanted read"), 0);
	CODE(hull("remove box"), 0);
	CODE(hull("launch selwick/base --name box --network none --log "
		  "size=1M,files=2 -- yes 'the tide comes and goes'"),
		0);
	usleep(700000);
	begin = th_clock_mono_ms();
	CODE(hull("stop box"), 0);
	CHECK(th_clock_mono_ms() - begin < 5000);
	CODE(hull("remove box"), 0);
}

/* What was written before is there, however slow the keeper is. */
static void what_was_written_is_there(void)
{
	pid_t keeper, pid, program;
	char logs[300];

	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'sleep 0.5; echo berth seven; exec sleep 1000'"),
		0);
	keeper = keeper_of("box");
	program = atoi(field("box", "pid"));
	snprintf(logs, sizeof(logs), "%s/containers/%s/log*", world_store,
		field("box", "id"));
	signal_to(keeper, SIGSTOP);
	for (int i = 0; i < 500 &&
		as_root("grep -aq ^sleep /proc/%d/cmdline", (int)program)->code;
		i++)
		usleep(10000);
	CHECK_TEXT(as_root("sh -c 'cat %s'", logs)->out, "");
	pid = hull_start("read", "logs box");
	usleep(50000);
	signal_to(keeper, SIGCONT);
	CHECK_INT(wait_for(pid), 0);
	CHECK(file_holds("read", "berth seven"));
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"what was written is there", what_was_written_is_there},
	{"they rotate and lose nothing", they_rotate_and_lose_nothing},
	{"old files go where it is wanted", old_files_go_where_it_is_wanted},
	{"streams and times", streams_and_times},
	{"several are put together by time", several_are_put_together_by_time},
	{"following goes on over restarts", following_goes_on_over_restarts},
	{"the journal gets it too", the_journal_gets_it_too},
	{"a full disk is told and stops nothing",
		a_full_disk_is_told_and_stops_nothing},
	{"a flood loses no line", a_flood_loses_no_line}, CU_TEST_INFO_NULL};

const struct suite suite_logs = {"logs", tests};
