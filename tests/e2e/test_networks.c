/* Networks of one's own: who reaches whom, and what is left afterwards. */
#include <arpa/inet.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "e2e/harness.h"

struct meeting {
	const char *from, *to;
};

/* Those that nobody needs any more stay for a moment. */
static bool no_bridge_is_there(void *arg)
{
	(void)arg;
	return !strstr(as_root("ip -o link")->out, ": th");
}

static bool meets(void *arg)
{
	const struct meeting *meeting = arg;

	return hull("exec %s -- booking --at %s:7070 list", meeting->from,
		       meeting->to)
		       ->code == 0;
}

static bool meet(const char *from, const char *to)
{
	struct meeting meeting = {from, to};

	return wait_until(meets, &meeting);
}

static bool never_meet(const char *from, const char *to)
{
	struct meeting meeting = {from, to};

	return !meets(&meeting);
}

static void launch_ledger(const char *name, const char *options)
{
	CODE(hull("launch selwick/ledger --name %s %s", name, options), 0);
}

static void launch_client(const char *name, const char *options)
{
	CODE(hull("launch selwick/ledger --name %s %s --entrypoint sleep -- "
		  "1000",
		     name, options),
		0);
}

struct lesson {
	const char *who, *name;
};

static bool knows(void *arg)
{
	const struct lesson *lesson = arg;

	return strstr(hull("exec %s -- cat /etc/hosts", lesson->who)->out,
		       lesson->name) != NULL;
}

/* Within a moment. */
static bool learns(const char *who, const char *name)
{
	struct lesson lesson = {who, name};

	return wait_until(knows, &lesson);
}

/* Hardware addresses come from network and address: the same again after a
 * restart, others on another network, and none that a card could have. */
static void hardware_addresses_are_stable(void)
{
	char first[32], second[32];
	unsigned int byte = 0;

	CODE(hull("new network one --subnet 10.31.7.0/24"), 0);
	CODE(hull("new network two --subnet 10.31.8.0/24"), 0);
	launch_client("boat", "--network one --network two");
	snprintf(first, sizeof(first), "%.17s",
		hull("exec boat -- cat /sys/class/net/eth0/address")->out);
	snprintf(second, sizeof(second), "%.17s",
		hull("exec boat -- cat /sys/class/net/eth1/address")->out);
	CHECK(strcmp(first, second) != 0);
	CHECK_INT(sscanf(first, "%x", &byte), 1);
	CHECK_INT(byte & 3, 2);
	CODE(hull("restart boat --grace 0s"), 0);
	CHECK(strncmp(hull("exec boat -- cat /sys/class/net/eth0/address")->out,
		      first, 17) == 0);
	CODE(hull("remove --force boat"), 0);
	CODE(hull("remove network:one network:two"), 0);
}

static void networks_are_apart(void)
{
	char address[64], other[64];

	launch_ledger("ledger", "--network berths");
	launch_client("pilot", "--network berths");
	launch_client("clerk", "--network office");
	CHECK(meet("pilot", "ledger"));
	CHECK(never_meet("clerk", "ledger"));
	snprintf(address, sizeof(address), "%s", field("ledger", "address"));
	snprintf(other, sizeof(other), "%s", field("ledger", "address6"));
	CHECK(meet("pilot", address));
	CHECK(meet("pilot", other));
	CHECK(never_meet("clerk", address));
	CHECK(never_meet("clerk", other));
	/* From both sides at once they are found by whoever is on both. */
	launch_client("harbour-master", "--network office --network berths");
	CHECK(meet("harbour-master", "ledger"));
	CHECK(meet("harbour-master", address));
	CHECK(learns("clerk", " harbour-master\n"));
	CHECK(learns("ledger", " harbour-master\n"));
	CHECK(!strstr(hull("exec clerk -- cat /etc/hosts")->out, "ledger"));
	SAYS(hull("exec harbour-master -- ls /sys/class/net")->out,
		"eth0\neth1\n");
	CHECK_TEXT(field("harbour-master", "networks.0.network"), "office");
	CHECK_TEXT(field("harbour-master", "networks.1.network"), "berths");
	/* What is in use stays. */
	CODE(hull("remove network:berths"), 4);
	SAYS(hull("remove network:berths")->err,
		"remove these first: tidyhull remove ledger pilot "
		"harbour-master");
	SAYS(hull("list networks")->out, "ledger, pilot, harbour-master");
	CODE(hull("remove --force ledger pilot clerk harbour-master"), 0);
	CODE(hull("remove network:berths office"), 0);
	CODE(hull("show network:berths"), 3);
}

static bool listens(void *arg)
{
	(void)arg;
	return strstr(hull("logs ear")->out, "ready\n") != NULL;
}

/* What of all kinds of frames a neighbour gets to see. */
static void heard(const char *options, const char *wanted)
{
	CODE(hull("launch selwick/base --name ear --network berths "
		  "--capability +NET_RAW --mount /inside=%s/inside,ro -- "
		  "/inside/forge hear eth0",
		     world_build),
		0);
	CHECK(wait_until(listens, NULL));
	CODE(hull("launch selwick/base --name mouth --network berths "
		  "--capability +NET_RAW --mount /inside=%s/inside,ro %s -- "
		  "/inside/forge send eth0",
		     world_build, options),
		0);
	CODE(hull("wait ear"), 0);
	CHECK_TEXT(hull("logs ear")->out, wanted);
	CODE(hull("remove --force ear mouth"), 0);
}

static void nobody_sends_for_others(void)
{
	heard("", "ready\nxyz\n");
	heard("--allow addresses", "ready\nabcdefghijkxyz\n");
	/* A guard for each of the networks that it is on. */
	launch_client("boat", "--network berths --network office");
	SAYS(hull("exec boat -- ls /sys/class/net")->out, "eth0\neth1\n");
	CODE(hull("remove --force boat"), 0);
	CODE(hull("remove network:berths office"), 0);
}

static void addresses_are_chosen(void)
{
	struct result *result;

	CODE(hull("new network berths --subnet 10.20.30.0/28 --subnet "
		  "fd20:30::/64"),
		0);
	CHECK_TEXT(field("network:berths", "subnet"), "10.20.30.0/28");
	CHECK_TEXT(field("network:berths", "subnet6"), "fd20:30::/64");
	launch_ledger("ledger",
		"--network "
		"berths,address=10.20.30.9,address=fd20:30::9");
	launch_client("pilot", "--network berths");
	CHECK_TEXT(field("ledger", "address"), "10.20.30.9");
	CHECK_TEXT(field("ledger", "address6"), "fd20:30::9");
	CHECK_TEXT(field("pilot", "address"), "10.20.30.2");
	CHECK(meet("pilot", "10.20.30.9"));
	CHECK(meet("pilot", "fd20:30::9"));
	result = hull("create selwick/base --network berths,address=10.20.30.9 "
		      "-- true");
	CODE(result, 4);
	SAYS(result->err, "belongs to container \"ledger\"");
	/* The settings make the same again. */
	SAYS(hull("show ledger --settings")->out,
		"network: \"berths,address=10.20.30.9,address=fd20:30::9\"");
	/* It keeps it, also while it does not run. */
	CODE(hull("stop ledger --grace 0s"), 0);
	CODE(hull("create selwick/base --network berths,address=10.20.30.9 -- "
		  "true"),
		4);
	for (int i = 0; i < 11; i++)
		CODE(hull("launch selwick/base --name boat-%d --network berths "
			  "-- sleep 1000",
			     i),
			0);
	/* Fourteen addresses less the bridge's, the ledger's and the
	 * pilot's. */
	result = hull("launch selwick/base --name boat-too-many --network "
		      "berths -- sleep 1000");
	CODE(result, 5);
	SAYS(result->err, "has no free addresses");
	CODE(hull("start ledger"), 0);
	CHECK(meet("pilot", "ledger"));
	CODE(hull("stop --all --grace 0s --quiet"), 0);
	CODE(hull("remove --all --yes --quiet"), 0);
	CODE(hull("remove network:berths"), 0);
}

static void what_is_no_network_is_told(void)
{
	static const struct {
		const char *line;
		int code;
		const char *says;
	} cases[] = {
		{"new network berths --subnet 10.20.0.0/33", 2, "not a subnet"},
		{"new network berths --subnet 10.20.0.0/30", 2, "8 to 29"},
		{"new network berths --subnet 10.20.0.7/24", 2,
			"try 10.20.0.0/24"},
		{"new network berths --subnet fd20::1/64", 2, "try fd20::/64"},
		{"new network berths --subnet fd20::/120", 2, "8 to 112"},
		{"new network berths --subnet 10.20.0.0/24 --subnet "
		 "10.21.0.0/24",
			2, "is a second one"},
		{"new network host", 2, "a reserved word"},
		{"new network a/b", 2, "is not a valid name"},
		{"new network berths office --subnet 10.20.0.0/24", 2,
			"same subnet"},
		{"new volume ledger --internal", 2, "apply to networks only"},
		{"new lighthouse x", 2, "cannot be created with new"},
		{"new network again", 4, "already exists"},
		{"new network berths --subnet 10.9.8.0/25", 4, "overlaps"},
		{"create selwick/base --network again --network host", 2,
			"another network"},
		{"create selwick/base --network again --network again", 2,
			"named twice"},
		{"create selwick/base --network again,speed=9", 2,
			"is not an option of networks"},
		{"create selwick/base --network again,address=harbour", 2,
			"is not an address"},
		{"create selwick/base --network again,address=10.9.9.9", 2,
			"is not in the subnet 10.9.8.0/24"},
		{"create selwick/base --network again,address=10.9.8.1", 2,
			"is reserved"},
		{"create selwick/base --network again,address=fd99::9", 2,
			"has no IPv6 subnet"},
		{"create selwick/base --network canal,address=10.9.8.7", 3,
			"does not exist"},
		{"create selwick/base --network with:nobody", 3,
			"there is no container"},
		{"create selwick/base --network with:nobody --port 80", 2,
			"--network with:NAME"},
		{"create selwick/base --network none --alias buoy", 2,
			"a network with other containers"},
		{"remove network:canal", 3, "there is no network"}};

	CODE(hull("new network again --subnet 10.9.8.0/24"), 0);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct result *result = hull("%s", cases[i].line);

		if (result->code != cases[i].code)
			printf("\n    %s: %s\n", cases[i].line, result->err);
		CODE(result, cases[i].code);
		SAYS(result->err, cases[i].says);
	}
	SAYS(hull("list --all")->out, "there are no containers");
	CHECK_TEXT(hull("list networks -q")->out, "again\n");
	/* One that comes by itself is told, as it may be a slip. */
	SAYS(hull("create selwick/base --name boat --network canal -- true")
			->err,
		"created the network \"canal\"");
	SAYS(hull("create selwick/base --name boot --network canal -- true")
			->err,
		"");
	CODE(hull("remove boat boot"), 0);
	/* What came by itself goes when somebody sweeps; what was made stays.
	 */
	SAYS(hull("sweep --yes")->out, "networks");
	CHECK_TEXT(hull("list networks -q")->out, "again\n");
	CODE(hull("remove again"), 0);
}

/* Through the uplink everything of its block is this host's loopback, where
 * servers trust whoever can connect. */
static void the_hosts_loopback_is_asked_for(void)
{
	static const char *const hosts[] = {"host.tidyhull", "10.255.255.2",
		"10.255.255.3", "10.255.255.77", "[fd54:4800:ffff:ff::2]",
		"[fd54:4800:ffff:ff::3]"};
	struct result *result;

	launch_ledger("ledger",
		"--network none --port 7070=127.0.0.1:7070 --port "
		"7070=[::1]:7070");
	launch_client("box", "");
	for (size_t i = 0; i < COUNT_OF(hosts); i++)
		CHECK(never_meet("box", hosts[i]));
	if (world_user == 0) {
		result = hull("new network tools --host-loopback");
		CODE(result, 5);
		SAYS(result->err, "do not lead to the host's loopback");
		CODE(hull("remove --force box ledger"), 0);
		return;
	}
	CODE(hull("new network tools --host-loopback --internal"), 2);
	result = hull("new network tools --host-loopback");
	CODE(result, 0);
	SAYS(result->out, "with access to the host's loopback");
	launch_client("mate", "--network tools");
	CHECK(meet("mate", "host.tidyhull"));
	/* While the other network is up, too. */
	for (size_t i = 0; i < COUNT_OF(hosts); i++)
		CHECK(never_meet("box", hosts[i]));
	CODE(hull("remove --force box mate ledger"), 0);
	CODE(hull("remove network:tools"), 0);
}

/* The number of the other's process is in the record; it may be a stranger's
 * by the time it is looked at. */
static void a_number_is_no_network(void)
{
	char wanted[100];

	CODE(hull("launch --name ledger selwick/base -- sleep 1000"), 0);
	snprintf(wanted, sizeof(wanted), "%.90s",
		hull("exec ledger -- readlink /proc/self/ns/net")->out);
	CODE(as_root("python3 -c 'import sqlite3; "
		     "d=sqlite3.connect(\"%s/state.db\"); "
		     "d.execute(\"update containers set pid=%d where "
		     "name=\\\"ledger\\\"\"); d.commit()'",
		     world_store, (int)getpid()),
		0);
	CHECK_TEXT(hull("run selwick/base --network with:ledger -- readlink "
			"/proc/self/ns/net")
			   ->out,
		wanted);
	CODE(hull("remove --force ledger"), 0);
}

static void a_network_is_shared(void)
{
	struct result *result;

	launch_ledger("ledger", "--network berths");
	launch_client("pilot", "--network berths");
	launch_client("clerk", "--network with:ledger");
	CHECK(meet("clerk", "127.0.0.1"));
	CHECK_TEXT(field("clerk", "network"), "with:ledger");
	/* It finds what the other one finds, also those who come later. */
	CHECK(learns("clerk", " pilot\n"));
	launch_client("mate", "--network berths");
	CHECK(meet("mate", "ledger"));
	CHECK(learns("clerk", " mate\n"));
	SAYS(hull("show clerk --settings")->out, "network: \"with:ledger\"");
	result = hull("create selwick/base --network with:clerk -- true");
	CODE(result, 2);
	SAYS(result->err, "no network of its own to share");
	CODE(hull("stop clerk ledger --grace 0s"), 0);
	result = hull("start clerk");
	CODE(result, 3);
	SAYS(result->err, "is not running");
	SAYS(result->err, "tidyhull start ledger");
	CODE(hull("start ledger"), 0);
	CODE(hull("start clerk"), 0);
	CHECK(meet("clerk", "127.0.0.1"));
	CODE(hull("remove --force clerk ledger pilot mate"), 0);
	CODE(hull("remove network:berths"), 0);
}

/* ---- another host ---- */

/* A network namespace that is plugged into this host's: 192.0.2.2 and
 * fd77::2, while this host is 192.0.2.1 and fd77::1. */
static void add_outside(void)
{
	static const char *const lines[] = {"ip netns add hull-outside",
		("ip link add hull-out type veth peer name eth9 netns "
		 "hull-outside"),
		"ip address add 192.0.2.1/24 dev hull-out",
		"ip address add fd77::1/64 dev hull-out nodad",
		"ip link set hull-out up",
		"ip -n hull-outside address add 192.0.2.2/24 dev eth9",
		"ip -n hull-outside address add fd77::2/64 dev eth9 nodad",
		"ip -n hull-outside link set eth9 up",
		"ip -n hull-outside link set lo up",
		"ip route add default via 192.0.2.2",
		"ip -6 route add default via fd77::2"};

	for (size_t i = 0; i < COUNT_OF(lines); i++)
		CODE(as_root("%s", lines[i]), 0);
}

static void remove_outside(void)
{
	CODE(as_root("ip netns pids hull-outside"), 0);
	as_root("sh -c 'kill -9 $(ip netns pids hull-outside)'");
	CODE(as_root("ip link delete hull-out"), 0);
	CODE(as_root("ip netns delete hull-outside"), 0);
	CODE(as_root("umount /run/netns"), 0);
}

static struct result *book_outside(const char *at, const char *word)
{
	return as_root("ip netns exec hull-outside timeout 3 %s/demo/booking "
		       "--at %s %s",
		world_build, at, word);
}

static bool answers_outside(void *at)
{
	return book_outside(at, "LIST")->code == 0;
}

/* Whom the ledger at the place takes a client outside for. */
static struct result *who_outside(const char *at)
{
	char text[128];

	snprintf(text, sizeof(text), "%s", at);
	wait_until(answers_outside, text);
	return book_outside(at, "WHO");
}

static struct result *who_here(const char *at)
{
	return as_root(
		"timeout 3 %s/demo/booking --at %s WHO", world_build, at);
}

static void an_outside_client_keeps_its_address(void)
{
	char address[64];

	add_outside();
	CODE(hull("new network berths --internal"), 0);
	launch_ledger("ledger", "--port 7070=8080");
	launch_ledger("vault", "--network berths --port 7070=8081");
	launch_ledger("bound",
		"--port 7070=192.0.2.1:8082 --port "
		"7070=[fd77::1]:8083");
	CHECK_TEXT(who_outside("192.0.2.1:8080")->out, "192.0.2.2\n");
	CHECK_TEXT(who_outside("fd77::1:8080")->out, "fd77::2\n");
	CHECK_TEXT(who_outside("192.0.2.1:8082")->out, "192.0.2.2\n");
	CHECK_TEXT(who_outside("fd77::1:8083")->out, "fd77::2\n");
	CHECK(book_outside("fd77::1:8082", "LIST")->code != 0);
	/* Without a way out it cannot answer the client itself. */
	CODE(who_outside("192.0.2.1:8081"), 0);
	/* From this host, also by its outer address. */
	CODE(who_here("192.0.2.1:8080"), 0);
	CODE(who_here("fd77::1:8080"), 0);
	CODE(who_here("127.0.0.1:8080"), 0);
	CODE(who_here("::1:8080"), 0);
	CODE(who_here("192.0.2.1:8082"), 0);
	/* And from another container, by the host's address. */
	CODE(hull("exec bound -- booking --at 192.0.2.1:8080 WHO"), 0);
	CODE(hull("exec ledger -- booking --at 192.0.2.1:8080 WHO"), 0);
	/* It is not reached but by its port. */
	snprintf(address, sizeof(address), "%s:7070",
		field("ledger", "address"));
	CODE(as_root("ip -n hull-outside route add default via 192.0.2.1"), 0);
	CHECK(book_outside(address, "LIST")->code != 0);
	/* After a restart, another address: the port leads there. */
	CODE(hull("stop ledger --grace 0s"), 0);
	launch_client("filler", "");
	CODE(hull("start ledger"), 0);
	CHECK(strncmp(field("ledger", "address"), address,
		      strlen(address) - 5) != 0);
	CHECK_TEXT(who_outside("192.0.2.1:8080")->out, "192.0.2.2\n");
	/* And after its keeper was killed with it. */
	kill_keeper("ledger");
	CODE(hull("start ledger"), 0);
	CHECK_TEXT(who_outside("192.0.2.1:8080")->out, "192.0.2.2\n");
	CODE(hull("remove --force ledger vault bound filler"), 0);
	CHECK(book_outside("192.0.2.1:8080", "LIST")->code != 0);
	CODE(hull("remove network:berths"), 0);
	remove_outside();
}

static bool flow_is_north(void *arg)
{
	(void)arg;
	return file_holds("flow.out", "north");
}

static bool flow_is_south(void *arg)
{
	(void)arg;
	return file_holds("flow.out", "south");
}

/* One flow of a client outside: the same socket before and after. */
static void datagrams_follow_a_restart(void)
{
	add_outside();
	CODE(hull("launch selwick/gauge --name gauge --port 80=8085/udp --env "
		  "STATION=north"),
		0);
	put_file("flow.py",
		"import socket,time\n"
		"s=socket.socket(socket.AF_INET,socket.SOCK_DGRAM)\n"
		"s.settimeout(0.2); s.connect(('192.0.2.1',8085))\n"
		"def ask():\n"
		"  for i in range(100):\n"
		"    try: s.send(b'?'); return "
		"s.recv(999).split()[0].decode()\n"
		"    except OSError: time.sleep(0.05)\n"
		"print(ask(),flush=True)\n"
		"while True:\n"
		"  time.sleep(0.05)\n"
		"  if ask()=='south': print('south',flush=True); break\n");
	/* As root also where the tests are a user's: it enters a namespace. */
	as_root("sh -c 'cd %s; ip netns exec hull-outside python3 flow.py "
		">flow.out 2>&1 &'",
		world_folder);
	CHECK(wait_until(flow_is_north, NULL));
	CODE(hull("stop gauge --grace 1s"), 0);
	CODE(hull("remove gauge"), 0);
	launch_client("filler", "");
	CODE(hull("launch selwick/gauge --name gauge --port 80=8085/udp --env "
		  "STATION=south"),
		0);
	CHECK(wait_until(flow_is_south, NULL));
	CODE(hull("remove --force gauge filler"), 0);
	remove_outside();
}

static void containers_reach_the_outside(void)
{
	add_outside();
	CODE(as_root("sh -c 'ip netns exec hull-outside %s/demo/ledger "
		     ">/dev/null 2>&1 &'",
		     world_build),
		0);
	CODE(hull("new network berths --internal"), 0);
	launch_client("pilot", "--capability +NET_RAW");
	launch_client("clerk", "--network berths");
	launch_client("master", "--network berths --network quayside");
	/* Pings of users are the host's affair (ping_group_range). */
	CODE(as_root("sh -c 'echo 0 4711 "
		     ">/proc/sys/net/ipv4/ping_group_range'"),
		0);
	CHECK(meet("pilot", "192.0.2.2"));
	CHECK(meet("pilot", "fd77::2"));
	CODE(hull("exec pilot -- ping -c 1 -W 2 192.0.2.2"), 0);
	CODE(as_root("sh -c 'echo 1 0 >/proc/sys/net/ipv4/ping_group_range'"),
		0);
	CHECK(meet("master", "192.0.2.2"));
	CHECK(meet("master", "fd77::2"));
	CHECK(never_meet("clerk", "192.0.2.2"));
	CHECK(never_meet("clerk", "fd77::2"));
	CODE(hull("remove --force pilot clerk master"), 0);
	CODE(hull("remove network:berths"), 0);
	remove_outside();
}

/* ---- name servers ---- */

/* Answers every question with 192.0.2.77, on 127.0.0.9. */
static void serve_names(void)
{
	static const unsigned char answer[] = {
		0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 192, 0, 2, 77};
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons(53)};
	int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);

	inet_pton(AF_INET, "127.0.0.9", &at.sin_addr);
	if (bind(fd, (struct sockaddr *)(void *)&at, sizeof(at)))
		_exit(1);
	for (;;) {
		struct sockaddr_in from;
		socklen_t from_len = sizeof(from);
		unsigned char text[600];
		ssize_t len = recvfrom(fd, text, 512, 0,
			(struct sockaddr *)(void *)&from, &from_len);
		bool address = len > 16 && text[len - 3] == 1;

		if (len < 17)
			continue;
		text[2] = 0x81;
		text[3] = 0x80;
		text[7] = address;
		memcpy(text + len, answer, sizeof(answer));
		sendto(fd, text, (size_t)len + (address ? sizeof(answer) : 0),
			0, (struct sockaddr *)(void *)&from, from_len);
	}
}

static bool is_answered(void *name)
{
	return strstr(hull("exec %s -- nslookup chart.selwick.example",
			      (char *)name)
			       ->out,
		       "192.0.2.77") != NULL;
}

static void loopback_name_servers_are_reached(void)
{
	char box[] = "box", mate[] = "mate";
	pid_t server;

	put_file("resolv",
		"# the harbour's own\nnameserver 127.0.0.9\n"
		"search selwick.example\n");
	CODE(as_root("mount --bind %s/resolv /etc/resolv.conf", world_folder),
		0);
	server = fork();
	if (server == 0)
		serve_names();
	launch_client("box", "");
	launch_client("mate", "--network with:box");
	SAYS(hull("exec box -- cat /etc/resolv.conf")->out,
		world_user ? "nameserver 10.255.255.3"
			   : "nameserver 127.0.0.9");
	SAYS(hull("exec box -- cat /etc/resolv.conf")->out,
		"search selwick.example");
	CHECK(wait_until(is_answered, box));
	CHECK(wait_until(is_answered, mate));
	CODE(hull("remove --force mate box"), 0);
	/* On the host's network it is the host's file. */
	SAYS(hull("run selwick/base --network host -- cat /etc/resolv.conf")
			->out,
		"nameserver 127.0.0.9\n");
	CHECK(!strstr(hull("run selwick/base --network none -- cat "
			   "/etc/resolv.conf")
			      ->out,
		"127.0.0.9"));
	signal_to(server, SIGKILL);
	wait_for(server);
	CODE(as_root("umount /etc/resolv.conf"), 0);
}

static void subnets_avoid_the_hosts_routes(void)
{
	struct result *result;
	char subnet[64], block[64];

	launch_client("boat", "--network canal");
	snprintf(
		subnet, sizeof(subnet), "%s", field("network:canal", "subnet"));
	CODE(hull("stop boat --grace 0s"), 0);
	CHECK(wait_until(no_bridge_is_there, NULL));
	/* The host gets a route to it meanwhile. */
	snprintf(block, sizeof(block), "%.*s", (int)strcspn(subnet, "/"),
		subnet);
	CODE(as_root("ip link add hull-route type veth peer name hull-peer"),
		0);
	CODE(as_root("ip link set hull-route up"), 0);
	CODE(as_root("ip route add %s/24 dev hull-route", block), 0);
	CODE(hull("start boat"), 0);
	CHECK(strcmp(subnet, field("network:canal", "subnet")) != 0);
	CODE(hull("stop boat --grace 0s"), 0);
	/* Where somebody chose it, that is an error. Of a part that no network
	 * gets by chance. */
	CODE(hull("new network lock --subnet 172.30.0.0/24"), 0);
	CODE(hull("create selwick/base --name barge --network lock -- true"),
		0);
	CODE(as_root("ip route add 172.30.0.0/16 dev hull-route"), 0);
	result = hull("start barge");
	CODE(result, 4);
	SAYS(result->err, "this host has a route into its subnet");
	CODE(hull("new network gate --subnet 172.30.3.0/24"), 4);
	CODE(as_root("ip link delete hull-route"), 0);
	CODE(hull("start barge"), 0);
	CODE(hull("wait barge"), 0);
	CODE(hull("remove --force boat barge"), 0);
	CODE(hull("remove network:canal lock"), 0);
}

/* Of an unprivileged user: several who start at the same time find one pilot.
 */
static void many_start_at_once(void)
{
	pid_t pids[12];
	char name[32];

	launch_ledger("ledger", "");
	for (int i = 0; i < 12; i++)
		pids[i] = hull_start("out",
			"launch selwick/ledger --name boat-%d --entrypoint "
			"sleep -- 1000",
			i);
	for (int i = 0; i < 12; i++)
		CHECK_INT(wait_for(pids[i]), 0);
	if (world_user)
		CHECK_TEXT(as_root("pgrep -c tidyhull-pilot")->out, "1\n");
	for (int i = 0; i < 12; i++) {
		snprintf(name, sizeof(name), "boat-%d", i);
		CHECK(meet(name, "ledger"));
	}
	CODE(hull("stop --all --grace 0s --quiet"), 0);
	CODE(hull("remove --all --yes --quiet"), 0);
}

static bool is_noted(void *arg)
{
	(void)arg;
	return strstr(hull("timeline ledger")->out,
		       "holds its networks was killed") != NULL;
}

static void a_lost_pilot_is_told(void)
{
	struct result *result;

	launch_ledger("ledger", "");
	launch_client("pilot", "");
	CHECK(meet("pilot", "ledger"));
	CODE(as_root("pkill -9 tidyhull-pilot"), 0);
	CHECK(wait_until(is_noted, NULL));
	/* Those that run still have each other. */
	CHECK(meet("pilot", "ledger"));
	result = hull("restart ledger");
	CODE(result, 5);
	SAYS(result->err, "tidyhull stop ledger, then tidyhull start ledger");
	CODE(hull("start ledger"), 0);
	CODE(hull("stop pilot --grace 0s"), 0);
	CODE(hull("start pilot"), 0);
	CHECK(meet("pilot", "ledger"));
	CODE(hull("remove --force ledger pilot"), 0);
}

/* A cleaner of files does not part a user's containers: whoever comes next is
 * on the same networks. */
static void a_pilot_without_a_socket_is_found(void)
{
	static const char *const lost[] = {
		"run/pilot.sock", "run/pilot.*", "run"};

	launch_ledger("ledger", "");
	for (size_t i = 0; i < COUNT_OF(lost); i++) {
		as_root("sh -c 'rm -rf %s/%s'", world_store, lost[i]);
		launch_client("pilot", "");
		CHECK(meet("pilot", "ledger"));
		CHECK_TEXT(as_root("pgrep -xc tidyhull-pilot")->out, "1\n");
		CODE(hull("restart ledger"), 0);
		CHECK(meet("pilot", "ledger"));
		CODE(hull("remove --force pilot"), 0);
	}
	CODE(hull("remove --force ledger"), 0);
}

static void rules_of_others_stay(void)
{
	CODE(as_root("nft add table inet harbour"), 0);
	CODE(as_root("nft add chain inet harbour watch"), 0);
	launch_ledger("ledger", "--port 80=8080 --network berths");
	launch_client("pilot", "--network berths");
	SAYS(as_root("nft list tables")->out, "table inet harbour");
	/* No container can tell the host to send its packets elsewhere. */
	CHECK_TEXT(as_root("sh -c 'cat /proc/sys/net/ipv6/conf/th[0-9a-f]*-0/"
			   "accept_ra'")
			   ->out,
		"0\n");
	/* Somebody throws all of them away. */
	CODE(as_root("nft flush ruleset"), 0);
	CODE(as_root("nft add table inet harbour"), 0);
	launch_client("clerk", "--network office --port 81=8082");
	SAYS(as_root("nft list tables")->out, "table inet tidyhull_");
	CHECK(meet("pilot", "ledger"));
	CODE(hull("remove --force ledger pilot clerk"), 0);
	CHECK(wait_until(no_bridge_is_there, NULL));
	CHECK_TEXT(as_root("nft list tables")->out, "table inet harbour\n");
	CODE(as_root("nft delete table inet harbour"), 0);
	CODE(hull("remove network:berths office"), 0);
}

static const CU_TestInfo tests[] = {{"networks are apart", networks_are_apart},
	{"hardware addresses are stable", hardware_addresses_are_stable},
	{"nobody sends for others", nobody_sends_for_others},
	{"addresses are chosen", addresses_are_chosen},
	{"what is no network is told", what_is_no_network_is_told},
	{"a network is shared", a_network_is_shared},
	{"a number is no network", a_number_is_no_network},
	{"the host's loopback is asked for", the_hosts_loopback_is_asked_for},
	{"an outside client keeps its address",
		an_outside_client_keeps_its_address},
	{"datagrams follow a restart", datagrams_follow_a_restart},
	{"containers reach the outside", containers_reach_the_outside},
	{"loopback name servers are reached",
		loopback_name_servers_are_reached},
	{"subnets avoid the host's routes", subnets_avoid_the_hosts_routes},
	{"many start at once", many_start_at_once},
	{"a lost pilot is told", a_lost_pilot_is_told},
	{"a pilot without a socket is found",
		a_pilot_without_a_socket_is_found},
	{"rules of others stay", rules_of_others_stay}, CU_TEST_INFO_NULL};

const struct suite suite_networks = {"networks", tests};
