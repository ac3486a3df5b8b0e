/* Ports in the forms beyond one TCP port. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

/* Sends a datagram and waits for the answer. */
static const char *ask(const char *address, int port, int times)
{
	return other("python3 -c 'import socket,sys\n"
		     "a=\"%s\"; f=socket.AF_INET6 if \":\" in a else "
		     "socket.AF_INET\n"
		     "s=socket.socket(f,socket.SOCK_DGRAM); s.settimeout(5)\n"
		     "s.connect((a,%d))\n"
		     "for i in range(%d):\n"
		     "  s.send(b\"?\"); r=s.recv(2000)\n"
		     "print(r.decode().split()[0])'",
		address, port, times)
		->out;
}

static bool answers(void *arg)
{
	return fetch("127.0.0.1", *(int *)arg, "/health") != NULL;
}

static void datagrams_go_both_ways(void)
{
	int port = 8080;

	CODE(hull("launch selwick/gauge --name box --network own --port "
		  "80=8080 --port 80=8080/udp --env STATION=north"),
		0);
	CHECK(wait_until(answers, &port));
	CHECK_TEXT(ask("127.0.0.1", 8080, 1), "north\n");
	CHECK_TEXT(ask("127.0.0.1", 8080, 200), "north\n");
	CHECK_TEXT(ask("::1", 8080, 3), "north\n");
	/* The answer comes from the address that was asked. */
	CHECK_TEXT(ask("127.0.0.7", 8080, 3), "north\n");
	SAYS(hull("ports box")->out, "udp");
	/* Several clients at once do not get one another's answers. */
	CODE(other("python3 -c 'import socket\n"
		   "c=[socket.socket(socket.AF_INET,socket.SOCK_DGRAM) for i "
		   "in "
		   "range(100)]\n"
		   "for s in c: s.settimeout(5); "
		   "s.connect((\"127.0.0.1\",8080)); s.send(b\"x\")\n"
		   "for s in c: assert s.recv(100).startswith(b\"north\")'"),
		0);
	CODE(hull("launch selwick/gauge --name two --network own --port "
		  "80=8080/udp"),
		4);
	CODE(hull("remove --force box"), 0);
}

/* A client that asks before anybody listens is heard when somebody does. */
static void early_datagrams_do_no_harm(void)
{
	CODE(hull("launch selwick/gauge --name box --network own --port "
		  "80=8080/udp --env STATION=north --entrypoint sh -- -c "
		  "'sleep 1; exec gauge'"),
		0);
	CODE(other("python3 -c 'import socket,time\n"
		   "s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM)\n"
		   "s.settimeout(0.1); s.connect((\"127.0.0.1\",8080))\n"
		   "for i in range(100):\n"
		   "  try:\n"
		   "    s.send(b\"?\"); r=s.recv(999)\n"
		   "    assert i>2 and r.startswith(b\"north\"); break\n"
		   "  except OSError: time.sleep(0.05)\n"
		   "else: raise SystemExit(1)'"),
		0);
	CODE(hull("remove --force box"), 0);
}

static void what_the_image_declares(void)
{
	struct result *result;
	int port;

	CODE(hull("launch selwick/gauge --name box --network own --port "
		  "declared"),
		0);
	port = atoi(field("box", "ports.0.host-port"));
	CHECK(port > 1023);
	CHECK(wait_until(answers, &port));
	CODE(hull("remove --force box"), 0);
	result = hull("launch selwick/base --network own --port declared");
	CODE(result, 2);
	SAYS(result->err, "does not declare any ports");
	SAYS(hull("list --all")->out, "there are no containers");
}

static void a_socket_is_handed_over(void)
{
	int port = 8080;

	CODE(hull("launch selwick/gauge --name box --network none --port "
		  "80=127.0.0.1:8080,handoff --env STATION=north"),
		0);
	CHECK(wait_until(answers, &port));
	SAYS(hull("logs box")->out, "1 sockets were handed over");
	/* A start once more hands it over again; in between who connects is
	 * told so. */
	CODE(hull("restart box"), 0);
	CHECK(wait_until(answers, &port));
	CODE(hull("remove --force box"), 0);
	/* Nothing but those reaches the program. */
	CODE(hull("run selwick/base --network none --port "
		  "80=127.0.0.1:8081,handoff --port 81=127.0.0.1:8082,handoff "
		  "-- sh -c 'test $LISTEN_FDS = 2 && test -S /dev/fd/3 && test "
		  "-S /dev/fd/4 && ! test -e /dev/fd/5 && ! test -e "
		  "/dev/fd/100'"),
		0);
}

static void low_ports_of_users_are_told(void)
{
	struct result *result;

	if (!world_user)
		return; /* root may */
	as_root("sh -c 'echo 1024 >/proc/sys/net/ipv4/ip_unprivileged_port_"
		"start'");
	result = hull("launch selwick/gauge --network own --port 80=80");
	CODE(result, 5);
	SAYS(result->err, "this user may not bind port 80");
	SAYS(result->err, "--port 80=8080");
	SAYS(result->err, "ip_unprivileged_port_start=80");
}

static void three_copies_on_three_ports(void)
{
	struct result *result;
	char word[64];

	for (int i = 1; i <= 3; i++)
		CODE(hull("launch selwick/gauge --name gauge-%d --port 80=%d "
			  "--env STATION=pier-%d",
			     i, 8080 + i, i),
			0);
	for (int i = 1; i <= 3; i++) {
		int port = 8080 + i;

		CHECK(wait_until(answers, &port));
		snprintf(word, sizeof(word), "\"station\":\"pier-%d\"", i);
		SAYS(fetch("127.0.0.1", port, "/tide.json"), word);
	}
	SAYS(hull("list")->out, "80 at http://localhost:8083");
	result = hull("launch selwick/gauge --name gauge-4 --port 80=8082");
	CODE(result, 4);
	SAYS(result->err, "cannot launch \"gauge-4\"");
	SAYS(result->err, "port 8082/tcp is held by container \"gauge-2\"");
	/* The next free one is offered, and it is one. */
	SAYS(result->err, "try --port 80=8084, or --port 80 for a free one");
	CODE(hull("launch selwick/gauge --name gauge-4 --port 80=8084"), 0);
	CODE(hull("remove --force gauge-1 gauge-2 gauge-3 gauge-4"), 0);
}

static int host_port_of(const char *name)
{
	const char *at = strstr(hull("ports %s", name)->out, "0.0.0.0:");

	return at ? atoi(at + 8) : 0;
}

/* People note it down. */
static void a_free_port_stays(void)
{
	char line[60];
	int port;

	CODE(hull("pull -q selwick/gauge"), 0);
	CODE(hull("launch -q selwick/gauge --name one --port 80"), 0);
	port = host_port_of("one");
	CHECK(port > 0);
	CODE(hull("restart one"), 0);
	CHECK_INT(host_port_of("one"), port);
	CODE(hull("stop one"), 0);
	CODE(hull("start one"), 0);
	CHECK_INT(host_port_of("one"), port);
	/* Unless another one has it by then. */
	CODE(hull("stop one"), 0);
	snprintf(line, sizeof(line), "--port 80=%d", port);
	CODE(hull("launch -q selwick/gauge --name two %s", line), 0);
	CODE(hull("start one"), 0);
	CHECK(host_port_of("one") > 0 && host_port_of("one") != port);
	CODE(hull("remove --force one two"), 0);
}

static void an_option_replaces_the_files_port(void)
{
	put_file("gauge.yaml",
		"image: selwick/gauge\nnetwork: none\n"
		"port: {80: 18080, 81: 18081}\n");
	CODE(hull("create --settings gauge.yaml --name one --port 80=18082"),
		0);
	SAYS(hull("show one")->out, "80=18082");
	SAYS(hull("show one")->out, "81=18081");
	CHECK(!strstr(hull("show one")->out, "18080"));
	CODE(hull("remove one"), 0);
}

static const CU_TestInfo tests[] = {
	{"three copies on three ports", three_copies_on_three_ports},
	{"datagrams go both ways", datagrams_go_both_ways},
	{"early datagrams do no harm", early_datagrams_do_no_harm},
	{"what the image declares", what_the_image_declares},
	{"a socket is handed over", a_socket_is_handed_over},
	{"a free port stays", a_free_port_stays},
	{"an option replaces the file's port",
		an_option_replaces_the_files_port},
	{"low ports of users are told", low_ports_of_users_are_told},
	CU_TEST_INFO_NULL};

const struct suite suite_ports = {"ports", tests};
