/* Real servers, as Debian has them: a start, a real client over the port, a
 * limit, a crash and what follows, a stop without recovery at the next start,
 * data that stay. Their image is made by scripts/debian-image ("make
 * check-servers"). */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

#define IMAGE "selwick/servers"
#define SHARED "--mount /w=%s/w,ro"

static void get_image(void)
{
	char layout[600];
	int port;

	snprintf(layout, sizeof(layout), "%s/server-images", world_build);
	port = start_registry(layout);
	write_config(&port, 1);
	CODE(hull("pull " IMAGE " -q"), 0);
	other("mkdir -p %s/w", world_folder);
}

/* A client that runs on the host's network, as one outside would. */
static const char *client(const char *line)
{
	return hull("run " IMAGE " --network host " SHARED " -- %s",
		world_folder, line)
		->out;
}

struct question {
	const char *line, *answer;
};

static bool answers(void *arg)
{
	const struct question *question = arg;

	return strstr(client(question->line), question->answer) != NULL;
}

/* Servers need a moment. */
static void comes(const char *line, const char *answer)
{
	struct question question = {line, answer};

	if (!wait_until(answers, &question)) {
		printf("\n    %s: %s\n", line, client(line));
		printf("    %s\n", hull("logs box")->err);
		CU_FAIL("a server does not answer as it should");
	}
}

/* Some users cannot limit anything. */
static bool can_limit(void)
{
	static int can = -1;

	if (can < 0)
		can = hull("run " IMAGE " --network none --limit memory=64M -- "
			   "true")
				->code == 0;
	return can;
}

static const char *if_limited(const char *text)
{
	return can_limit() ? text : "";
}

static bool has_come_back(void *arg)
{
	(void)arg;
	return strcmp(field("box", "restart.restarts"), "1") == 0 &&
		strcmp(field("box", "state"), "running") == 0;
}

static void crash(void)
{
	CODE(hull("kill --signal SEGV box"), 0);
	CHECK(wait_until(has_come_back, NULL));
	SAYS(hull("timeline box")->out, "signal 11");
}

/* On its own signal, and not by force. */
static void stop_gracefully(void)
{
	SAYS(hull("stop box")->out, "it ended on its stop signal");
}

static void a_web_server(void)
{
	get_image();
	CODE(hull("launch " IMAGE " --name box --port 80=8081 --restart "
		  "on-failure,delay=50ms --mount /var/www/html=volume:pages %s "
		  "-- lighttpd -D -f /etc/lighttpd/lighttpd.conf",
		     if_limited("--limit memory=64M")),
		0);
	comes("curl -s 127.0.0.1:8081/", "<html");
	CODE(hull("exec box -- sh -c 'echo berth 7 > "
		  "/var/www/html/berth.txt'"),
		0);
	comes("curl -s 127.0.0.1:8081/berth.txt", "berth 7");
	crash();
	comes("curl -s 127.0.0.1:8081/berth.txt", "berth 7");
	stop_gracefully();
	CHECK_TEXT(field("box", "outcome.exit-code"), "0");
	CODE(hull("start box"), 0);
	comes("curl -s 127.0.0.1:8081/berth.txt", "berth 7");
	CODE(hull("remove --force box volume:pages"), 0);
}

static void write_database_scripts(void)
{
	put_file("w/database",
		"set -e\n"
		"as_its_user() { setpriv --reuid firebird --regid firebird "
		"--init-groups \"$@\"; }\n"
		"sed -i 's/^RemoteBindAddress/#&/' "
		"/etc/firebird/3.0/firebird.conf\n"
		"chown -R firebird /data\n"
		"echo \"create or alter user SYSDBA password 'fairwinds';\" | "
		"as_its_user isql-fb -q -user SYSDBA security.db\n"
		"[ -e /data/tides.fdb ] || echo \"create database "
		"'/data/tides.fdb';\" | as_its_user isql-fb -q -user SYSDBA\n"
		"exec setpriv --reuid firebird --regid firebird --init-groups "
		"/usr/sbin/firebird\n");
	put_file("w/ask",
		"echo \"$1;\" | isql-fb -q -user SYSDBA -password fairwinds "
		"127.0.0.1/3051:/data/tides.fdb 2>&1\n");
	/* Says what is wrong with its files, and nothing where all is well. */
	put_file("w/verify",
		"echo verified; exec gfix -v -full -user SYSDBA -password "
		"fairwinds 127.0.0.1/3051:/data/tides.fdb 2>&1\n");
}

static void launch_database(void)
{
	CODE(hull("launch " IMAGE " --name box --port 3050=3051 --restart "
		  "on-failure,delay=50ms --mount /data=volume:ledger " SHARED
		  " %s -- sh /w/database",
		     world_folder, if_limited("--limit memory=256M")),
		0);
}

static void a_database(void)
{
	get_image();
	write_database_scripts();
	launch_database();
	comes("sh /w/ask 'select 40 + 2 from rdb$database'", "42");
	client("sh /w/ask 'create table tides (height int); commit; insert "
	       "into tides values (7)'");
	comes("sh /w/ask 'select height from tides'", "7 \n");
	/* Before the crash: after one, its own end hangs now and then, and a
	 * second signal does not help it. */
	comes("sh /w/ask 'select height from tides'", "7 \n");
	stop_gracefully();
	CHECK_TEXT(field("box", "outcome.exit-code"), "0");
	CODE(hull("start box"), 0);
	comes("sh /w/ask 'select height from tides'", "7 \n");
	CHECK_TEXT(client("sh /w/verify"), "verified\n");
	/* What was committed is there after a crash. */
	crash();
	comes("sh /w/ask 'select height from tides'", "7 \n");
	CHECK_TEXT(client("sh /w/verify"), "verified\n");
	/* Its data outlive it. */
	CODE(hull("remove --force box"), 0);
	launch_database();
	comes("sh /w/ask 'select height from tides'", "7 \n");
	CODE(hull("remove --force box volume:ledger"), 0);
}

static void a_cache(void)
{
	get_image();
	put_file("w/set",
		"printf 'set tide 0 0 4\\r\\nhigh\\r\\nget "
		"tide\\r\\nquit\\r\\n'"
		" | nc -w 2 127.0.0.1 11311\n");
	put_file("w/get",
		"printf 'get tide\\r\\nversion\\r\\nquit\\r\\n' | nc "
		"-w 2 127.0.0.1 11311\n");
	CODE(hull("launch " IMAGE " --name box --port 11211=11311 --restart "
		  "on-failure,delay=50ms %s -- memcached -u memcache -l "
		  "0.0.0.0 -m 32",
		     if_limited("--limit memory=64M")),
		0);
	comes("sh /w/set", "VALUE tide 0 4");
	crash();
	comes("sh /w/get", "VERSION");
	/* It keeps nothing, and says so. */
	CHECK(strstr(client("sh /w/get"), "VALUE") == NULL);
	stop_gracefully();
	CODE(hull("start box"), 0);
	comes("sh /w/set", "VALUE tide 0 4");
	CODE(hull("remove --force box"), 0);
}

static void a_name_server(void)
{
	static const char udp[] = "dig +short +time=2 +tries=2 @127.0.0.1 -p "
				  "5354 gauge.selwick.example";
	static const char tcp[] = "dig +tcp +short +time=2 +tries=2 @127.0.0.1 "
				  "-p 5354 gauge.selwick.example";

	get_image();
	CODE(hull("launch " IMAGE " --name box --port 53=5354/udp --port "
		  "53=5354 --restart on-failure,delay=50ms %s -- dnsmasq -k -u "
		  "root --no-resolv --no-hosts --log-facility=- "
		  "--address=/gauge.selwick.example/10.7.7.7",
		     if_limited("--limit memory=32M,processes=20")),
		0);
	comes(udp, "10.7.7.7");
	comes(tcp, "10.7.7.7");
	crash();
	comes(udp, "10.7.7.7");
	stop_gracefully();
	SAYS(hull("logs box")->err, "exiting on receipt of SIGTERM");
	CODE(hull("start box"), 0);
	comes(tcp, "10.7.7.7");
	CODE(hull("remove --force box"), 0);
}

static void a_java_server(void)
{
	get_image();
	put_file("w/java",
		"set -e\n"
		"home=/usr/share/jetty9\n"
		"if [ ! -d /data/base/webapps ]; then\n"
		"\tmkdir -p /data/base/webapps/root\n"
		"\tcd /data/base\n"
		"\tjava -jar $home/start.jar jetty.home=$home "
		"--add-to-start=http,deploy,webapp\n"
		"\techo berth 7 >webapps/root/index.html\n"
		"fi\n"
		"cd /data/base\n"
		"exec java -jar $home/start.jar jetty.home=$home\n");
	put_file("w/heap",
		"java -XX:+PrintFlagsFinal -version 2>/dev/null | "
		"awk '$2 == \"MaxHeapSize\" { print $4 }'\n");
	CODE(hull("launch " IMAGE " --name box --user jetty --port 8080=8082 "
		  "--restart on-failure,delay=50ms --mount "
		  "/data=volume:base " SHARED " %s -- sh /w/java",
		     world_folder, if_limited("--limit memory=256M")),
		0);
	comes("curl -s 127.0.0.1:8082/", "berth 7");
	/* It has seen how much there is for it. */
	if (can_limit())
		CHECK(atol(hull("exec box -- sh /w/heap")->out) <= 256 << 20);
	/* The machine's own handler reports it, and raises ABRT. */
	CODE(hull("kill --signal SEGV box"), 0);
	CHECK(wait_until(has_come_back, NULL));
	SAYS(hull("timeline box")->out, "signal 6");
	comes("curl -s 127.0.0.1:8082/", "berth 7");
	stop_gracefully();
	CHECK_TEXT(field("box", "outcome.exit-code"), "143");
	CODE(hull("start box"), 0);
	comes("curl -s 127.0.0.1:8082/", "berth 7");
	CODE(hull("remove --force box volume:base"), 0);
}

/* Its jobs leave children behind, which somebody has to take in. */
static void a_clock_with_children(void)
{
	struct result *result;
	int tries = 0;

	get_image();
	put_file("w/clock",
		"echo '* * * * * root sh -c \"sleep 1 & echo tide "
		">>/data/log\"'"
		" >/etc/cron.d/tide\n"
		"exec cron -f\n");
	CODE(hull("launch " IMAGE " --name box --restart "
		  "on-failure,delay=50ms --mount /data=volume:log " SHARED
		  " %s -- sh /w/clock",
		     world_folder,
		     if_limited("--limit memory=64M,processes=50")),
		0);
	do {
		usleep(500000);
		result = hull("exec box -- cat /data/log");
	} while (result->code && tries++ < 150);
	SAYS(result->out, "tide");
	usleep(1500000);
	result = hull("exec box -- ps -e -o stat=");
	CHECK(strchr(result->out, 'Z') == NULL);
	crash();
	stop_gracefully();
	CODE(hull("start box"), 0);
	SAYS(hull("exec box -- cat /data/log")->out, "tide");
	CODE(hull("remove --force box volume:log"), 0);
}

/* A web application that uses a database and a cache by their names. */
static void write_application(void)
{
	put_file("w/app.py",
		"import http.server, os, socket, subprocess\n"
		"\n"
		"def cache(command):\n"
		"    data = b''\n"
		"    with socket.create_connection(('cache', 11211), 3) as s:\n"
		"        s.sendall(command.encode())\n"
		"        while not data.endswith((b'END\\r\\n', "
		"b'STORED\\r\\n')):\n"
		"            part = s.recv(4096)\n"
		"            if not part:\n"
		"                break\n"
		"            data += part\n"
		"    return data.decode()\n"
		"\n"
		"def ask(text):\n"
		"    return subprocess.run(['isql-fb', '-q', '-user', "
		"'SYSDBA', '-password', 'fairwinds', "
		"'ledger/3050:/data/tides.fdb'], input=text, text=True, "
		"capture_output=True).stdout.split()\n"
		"\n"
		"class Page(http.server.BaseHTTPRequestHandler):\n"
		"    def do_GET(self):\n"
		"        known = cache('get height\\r\\n')\n"
		"        source = 'cache'\n"
		"        if 'VALUE' in known:\n"
		"            height = known.split('\\r\\n')[1]\n"
		"        else:\n"
		"            height = ask('select height from tides;')[-1]\n"
		"            cache('set height 0 0 %d\\r\\n%s\\r\\n' % "
		"(len(height), height))\n"
		"            source = 'ledger'\n"
		"        body = '%s: %s m, from the %s\\n' % "
		"(os.environ['HARBOUR'], height, source)\n"
		"        self.send_response(200)\n"
		"        self.end_headers()\n"
		"        self.wfile.write(body.encode())\n"
		"\n"
		"ask('create table tides (height int); commit; insert into "
		"tides values (7); commit;')\n"
		"class Server(http.server.ThreadingHTTPServer):\n"
		"    address_family = socket.AF_INET6\n"
		"\n"
		"Server(('::', 8000), Page).serve_forever()\n");
	put_file("w/front.conf",
		"server.modules = (\"mod_proxy\")\n"
		"server.document-root = \"/var/www/html\"\n"
		"server.port = 80\n"
		"proxy.server = (\"\" => ((\"host\" => \"app\", \"port\" => "
		"8000)))\n");
	put_file("w/ready",
		"echo 'select 42 from rdb$database;' | isql-fb -q -user SYSDBA "
		"-password fairwinds 127.0.0.1/3050:/data/tides.fdb | grep -q "
		"42\n");
	put_file("harbour.yaml",
		"group: harbour\n"
		"given: {HARBOUR: Port Selwick}\n"
		"common: {image: " IMAGE ", mount: ['/w=./w,ro']}\n"
		"containers:\n"
		"  ledger: {command: [sh, /w/database], mount: "
		"[/data=volume:berths], probe: 'exec:sh "
		"/w/ready,every=1s,grace=60s'}\n"
		"  cache: {command: [memcached, -u, memcache, -l, 0.0.0.0], "
		"probe: 'tcp:11211,every=500ms'}\n"
		"  app: {command: [python3, /w/app.py], env: {HARBOUR: "
		"'${HARBOUR}'}, after: {ledger: ready, cache: ready}, probe: "
		"'http:8000/,every=500ms'}\n"
		"  front: {command: [lighttpd, -D, -f, /w/front.conf], port: "
		"['80=8081'], after: {app: ready}}\n");
}

static void a_group_of_four(void)
{
	static const char *const names[] = {"ledger", "cache", "app", "front"};
	static const char page[] = "curl -s 127.0.0.1:8081/";
	char ledger[32];

	get_image();
	write_database_scripts();
	write_application();
	CODE(hull("launch --settings harbour.yaml"), 0);
	/* Its probe has asked before: the cache knows by now. */
	comes(page, "Port Selwick: 7 m, from the cache");
	/* Its probe is no trouble for a server. */
	CHECK(strstr(hull("logs app")->err, "Exception") == NULL);
	/* Whoever loses its keeper comes back, and the others stay. */
	for (size_t i = 0; i < 4; i++) {
		kill_keeper(names[i]);
		CODE(hull("launch --settings harbour.yaml --ready-within 2m"),
			0);
		SAYS(hull("list --all")->out, "4 of 4 running");
		comes(page, "Port Selwick: 7 m, from the ");
	}
	/* Changed by one line: only what it is about. */
	snprintf(ledger, sizeof(ledger), "%s", field("ledger", "id"));
	CODE(hull("launch --settings harbour.yaml --given HARBOUR=Northhaven"),
		0);
	comes(page, "Northhaven: 7 m, from the cache");
	CHECK_TEXT(field("ledger", "id"), ledger);
	CODE(hull("restart group:harbour"), 0);
	comes(page, "Northhaven: 7 m, from the ");
	CODE(hull("remove --force group:harbour volume:berths"), 0);
	CHECK_TEXT(hull("list networks -q")->out, "");
}

/* Of a plain Debian, whose program has a capability in its file. */
static void an_echo(void)
{
	get_image();
	SAYS(hull("run " IMAGE " -- ping -c 1 127.0.0.1")->out, "1 received");
	SAYS(hull("run " IMAGE " --user nobody -- ping -c 1 127.0.0.1")->out,
		"1 received");
}

static const CU_TestInfo tests[] = {{"a web server", a_web_server},
	{"a database", a_database}, {"a cache", a_cache},
	{"a name server", a_name_server}, {"a Java server", a_java_server},
	{"a clock with children", a_clock_with_children},
	{"a group of four", a_group_of_four}, {"an echo", an_echo},
	CU_TEST_INFO_NULL};

const struct suite suite_servers = {"servers", tests};
