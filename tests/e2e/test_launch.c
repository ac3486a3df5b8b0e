/* launch: port, mount, environment, network, and what a container sees. */
#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "e2e/harness.h"

static void make_history(void)
{
	char path[300];

	snprintf(path, sizeof(path), "%s/history", world_folder);
	mkdir(path, 0755);
	put_file("history/february", "2026-02-27 4.91\n");
}

static void a_service_with_port_mount_and_environment(void)
{
	struct result *result;
	const char *page;

	make_history();
	result = hull("launch selwick/gauge --name gauge-north --port 80=8080 "
		      "--mount /srv/history=./history --env STATION=north");
	CODE(result, 0);
	SAYS(result->out, "launched gauge-north");
	SAYS(result->out, "http://localhost:8080");
	page = fetch("127.0.0.1", 8080, "/tide.json");
	CHECK(page != NULL);
	SAYS(page ? page : "", "\"station\":\"north\"");
	SAYS(page ? page : "", "2026-02-27");
	page = fetch("::1", 8080, "/tide.json");
	CHECK(page != NULL);
	SAYS(page ? page : "", "\"station\":\"north\"");
	CODE(hull("stop gauge-north"), 0);
	CHECK(fetch("127.0.0.1", 8080, "/") == NULL);
	CODE(hull("remove gauge-north"), 0);
}

/* Another host: a network namespace behind a pair of devices. */
static void another_host_reaches_the_port(void)
{
	const char *page;
	int pair[2], status;
	char byte = 0;
	pid_t pid;

	CODE(hull("launch selwick/gauge --name g --port 80=8080 --env "
		  "STATION=east"),
		0);
	CHECK_INT(pipe2(pair, O_CLOEXEC), 0);
	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		if (unshare(CLONE_NEWNET) || write(pair[1], "x", 1) != 1)
			_exit(9);
		as_root("sh -c 'for i in 1 2 3 4 5 6 7 8 9; do ip link set "
			"out1 "
			"up && break; sleep 0.1; done; ip addr add "
			"203.0.113.2/24 dev out1'");
		page = fetch("203.0.113.1", 8080, "/tide.json");
		_exit(page && strstr(page, "\"station\":\"east\"") ? 0 : 7);
	}
	CHECK_INT(read(pair[0], &byte, 1), 1);
	CODE(as_root("ip link add out0 type veth peer name out1 netns %d", pid),
		0);
	CODE(as_root("ip addr add 203.0.113.1/24 dev out0"), 0);
	CODE(as_root("ip link set out0 up"), 0);
	while (waitpid(pid, &status, 0) < 0 && errno == EINTR)
		;
	CHECK_INT(WEXITSTATUS(status), 0);
	close(pair[0]);
	close(pair[1]);
	as_root("ip link del out0");
	CODE(hull("remove --force g"), 0);
}

static void three_of_one_image_on_free_ports(void)
{
	int ports[3];
	char line[200];

	for (int i = 0; i < 3; i++) {
		CODE(hull("launch selwick/gauge --name gauge-%d --port 80 "
			  "--env STATION=s%d",
			     i, i),
			0);
		snprintf(line, sizeof(line), "gauge-%d", i);
		ports[i] = atoi(field(line, "ports.0.host-port"));
		CHECK(ports[i] > 1024);
	}
	for (int i = 0; i < 3; i++) {
		const char *page = fetch("127.0.0.1", ports[i], "/tide.json");

		snprintf(line, sizeof(line), "\"station\":\"s%d\"", i);
		SAYS(page ? page : "", line);
	}
	/* Containers on one network reach each other by address. */
	snprintf(line, sizeof(line), "%s", field("gauge-1", "address"));
	SAYS(hull("exec gauge-0 -- wget -qO- http://%s/tide.json", line)->out,
		"\"station\":\"s1\"");
	snprintf(line, sizeof(line), "%s", field("gauge-2", "address6"));
	SAYS(hull("exec gauge-0 -- wget -qO- http://[%s]/tide.json", line)->out,
		"\"station\":\"s2\"");
	CODE(hull("remove --force gauge-0 gauge-1 gauge-2"), 0);
}

static void many_connections_come_through(void)
{
	CODE(hull("launch selwick/gauge --name g --port 80=127.0.0.1:8080 "
		  "--network none"),
		0);
	CHECK(fetch("::1", 8080, "/") == NULL);
	for (int i = 0; i < 300; i++) {
		const char *page = fetch("127.0.0.1", 8080, "/health");

		CHECK(page && strcmp(page, "afloat\n") == 0);
	}
	CODE(hull("remove --force g"), 0);
}

/* A megabyte each way at once, and an end that is passed on. */
static void streams_pass_whole_in_both_directions(void)
{
	struct result *result;

	CODE(hull("launch selwick/base --name echo --port 7=7007 --network "
		  "none -- nc -ll -p 7 -e /bin/cat"),
		0);
	result =
		other("sh -c 'head -c 3000000 /dev/urandom >in; for i in 1 2 3 "
		      "4 5; do busybox nc 127.0.0.1 7007 <in >out; [ -s out ] "
		      "&& break; sleep 0.2; done; cmp in out && echo same'");
	SAYS(result->out, "same");
	CODE(hull("remove --force echo"), 0);
}

static void it_sees_only_its_own(void)
{
	struct result *result;

	put_file("secret", "of the host");
	CODE(hull("launch selwick/base --name box --hostname cabin -- sleep "
		  "1000"),
		0);
	CHECK_TEXT(hull("exec box -- hostname")->out, "cabin\n");
	result = hull("exec box -- ps");
	CHECK(strstr(result->out, "e2e") == NULL);
	SAYS(result->out, "    1 root     reaper\n    2 root     sleep 1000");
	CODE(hull("exec box -- ls %s", world_folder), 1);
	result = hull("exec box -- ls /sys/class/net");
	CHECK_TEXT(result->out, "eth0\nlo\n");
	/* Echo requests need no capability, whatever the group. */
	SAYS(hull("exec box -- cat /proc/sys/net/ipv4/ping_group_range")->out,
		"0\t6553");
	result = hull("exec box -- cat /proc/kcore");
	CHECK_TEXT(result->out, "");
	CODE(hull("exec box -- sh -c 'echo 1 > /proc/sys/kernel/panic'"), 1);
	CODE(hull("exec box -- sh -c 'echo b > /proc/sysrq-trigger'"), 1);
	CHECK(hull("exec box -- mount -t tmpfs x /srv")->code != 0);
	CODE(hull("exec box -- mknod /tmp/disk b 254 0"), 1);
	CODE(hull("exec box -- mkdir /sys/fs/cgroup/x"), 1);
	CODE(hull("exec box -- kill -9 1"), 0); /* init is immune inside */
	CHECK_TEXT(field("box", "state"), "running");
	result = hull("exec box -- cat /proc/self/status");
	SAYS(result->out, "NoNewPrivs:\t1");
	SAYS(result->out, "CapEff:\t00000000000405fb");
	/* With NET_RAW: the kernel executes no file that is marked with what
	 * lies beyond. */
	SAYS(result->out, "CapBnd:\t00000000000425fb");
	result = hull("exec box -- ls /proc/self/fd");
	CHECK_TEXT(result->out, "0\n1\n2\n3\n");
	SAYS(hull("exec box -- cat /etc/hosts")->out, "cabin");
	/* The image's second layer took a file of the first away. */
	CODE(hull("exec box -- ls /etc/scaffold"), 1);
	SAYS(hull("exec box -- cat /etc/motd")->out, "Port Selwick");
	CODE(hull("remove --force box"), 0);
}

static void the_six_namespaces_are_its_own(void)
{
	static const char *const kinds[] = {
		"mnt", "pid", "net", "uts", "ipc", "cgroup"};
	char inside[100], path[64];

	CODE(hull("launch selwick/base --name box -- sleep 1000"), 0);
	for (size_t i = 0; i < COUNT_OF(kinds); i++) {
		ssize_t len;

		snprintf(path, sizeof(path), "/proc/%d/ns/%s",
			atoi(field("box", "pid")), kinds[i]);
		len = readlink(path, inside, sizeof(inside) - 1);
		CHECK(len > 0);
		inside[len > 0 ? len : 0] = '\0';
		snprintf(path, sizeof(path), "/proc/self/ns/%s", kinds[i]);
		SAYS(hull("exec box -- readlink %s", path)->out, inside);
		CHECK(strstr(other("readlink %s", path)->out, inside) == NULL);
	}
	CODE(hull("remove --force box"), 0);
}

static void mounts_are_as_they_were_asked_for(void)
{
	char path[300];

	make_history();
	CODE(hull("launch selwick/base --name box --network none "
		  "--mount /in/deep=./history --mount /ro=./history,ro "
		  "--mount /new=./new,make --mount /ram=memory:1M "
		  "--mount /file=./history/february -- sleep 1000"),
		0);
	SAYS(hull("exec box -- cat /in/deep/february")->out, "4.91");
	SAYS(hull("exec box -- cat /file")->out, "4.91");
	CODE(hull("exec box -- touch /ro/x"), 1);
	CODE(hull("exec box -- touch /new/made-inside"), 0);
	snprintf(path, sizeof(path), "%s/new/made-inside", world_folder);
	CHECK_INT(access(path, F_OK), 0);
	SAYS(hull("exec box -- df -k /ram")->out, "1024");
	CODE(hull("remove --force box"), 0);
	/* What was made outside stays outside. */
	CHECK_INT(access(path, F_OK), 0);
}

/* A link in the container's files must not lead a mount to the host. */
static void links_cannot_lead_a_mount_out(void)
{
	char path[300];

	make_history();
	CODE(hull("create selwick/base --name box --network none --mount "
		  "/trap/x=./history -- ls /trap"),
		0);
	snprintf(path, sizeof(path), "%s/containers/%s/upper/trap", world_store,
		field("box", "id"));
	/* One that leads nowhere inside is an error, and no folder outside. */
	CHECK_INT(symlink("/../../../../../../../../var/tmp/trap", path), 0);
	SAYS(hull("start box")->err, "mount point /trap/x");
	CHECK_INT(access("/var/tmp/trap", F_OK), -1);
	/* One that leads somewhere inside means that place. */
	CHECK_INT(unlink(path), 0);
	CHECK_INT(symlink("/../../../../../../../../srv", path), 0);
	CODE(hull("start box"), 0);
	hull("logs --follow box");
	SAYS(hull("logs box")->out, "x");
	CHECK_INT(access("/srv/x", F_OK), -1);
	CODE(hull("remove box"), 0);
}

static void settings_reach_the_program(void)
{
	struct result *result;

	result = hull("run selwick/base --network none --user pilot --workdir "
		      "/made/here --env A=1 --env B=two --read-only --tty no "
		      "-- sh -c 'id; pwd; echo $A $B $HOME; touch /x'");
	SAYS(result->err, "Read-only file system");
	SAYS(result->out, "/made/here");
	result = hull("run selwick/base --network none --user pilot --workdir "
		      "/made/here --env A=1 --env B=two -- "
		      "sh -c 'id; pwd; echo $A $B $HOME; "
		      "grep CapEff /proc/self/status'");
	CODE(result, 0);
	SAYS(result->out, "uid=1000(pilot) gid=1000(pilot)");
	SAYS(result->out, "1100");
	SAYS(result->out, "/made/here\n1 two /home/pilot\n");
	SAYS(result->out, "CapEff:\t0000000000000000");
	result = hull("run selwick/base --network none --capability "
		      "+NET_ADMIN,-CHOWN -- grep CapEff /proc/self/status");
	SAYS(result->out, "CapEff:\t00000000000415fa");
	result = hull("run selwick/gauge --network none --entrypoint /bin/echo "
		      "-- tide");
	CHECK_TEXT(result->out, "tide\n");
	SAYS(hull("run selwick/base --network host -- ls /sys/class/net")->out,
		"lo");
}

static void secrets_stay_hidden(void)
{
	struct result *result;

	put_file("pw", "halyard\n");
	result = hull_input("from-stdin\n", 11,
		"launch selwick/base --name box --network none --env "
		"PASSWORD=@file:pw --env OTHER=@stdin -- sh -c 'echo "
		"$PASSWORD $OTHER; sleep 1000'");
	CODE(result, 0);
	result = hull("show box");
	CHECK(strstr(result->out, "halyard") == NULL);
	SAYS(result->out, "PASSWORD=(hidden)");
	result = hull("show box --json");
	CHECK(strstr(result->out, "halyard") == NULL);
	SAYS(hull("show box --reveal")->out, "PASSWORD=halyard");
	result = other("sh -c 'cat /proc/[0-9]*/cmdline'");
	CHECK(strstr(result->out, "halyard") == NULL);
	SAYS(hull("logs box")->out, "halyard from-stdin");
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"a service with port, mount, environment",
		a_service_with_port_mount_and_environment},
	{"another host reaches the port", another_host_reaches_the_port},
	{"three of one image on free ports", three_of_one_image_on_free_ports},
	{"many connections come through", many_connections_come_through},
	{"streams pass whole in both directions",
		streams_pass_whole_in_both_directions},
	{"it sees only its own", it_sees_only_its_own},
	{"the six namespaces are its own", the_six_namespaces_are_its_own},
	{"mounts are as they were asked for",
		mounts_are_as_they_were_asked_for},
	{"links cannot lead a mount out", links_cannot_lead_a_mount_out},
	{"settings reach the program", settings_reach_the_program},
	{"secrets stay hidden", secrets_stay_hidden}, CU_TEST_INFO_NULL};

const struct suite suite_launch = {"launch", tests};
