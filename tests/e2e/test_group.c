/* Groups: several containers described by one file. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

/* The harbour: a ledger, gauges that come after it, and a clerk. */
static const char harbour[] =
	"group: harbour\n"
	"given: {WATCH: north, CLERK: '1000'}\n"
	"common: {env: {PORT_NAME: Selwick}, stop: grace=1s}\n"
	"containers:\n"
	"  ledger:\n"
	"    image: selwick/ledger\n"
	"    mount: [/data=volume:berths]\n"
	"    probe: 'tcp:7070,every=100ms'\n"
	"  gauge:\n"
	"    image: selwick/gauge\n"
	"    count: 2\n"
	"    port: [80=8081-8082]\n"
	"    env: {STATION: '${WATCH} ${COPY}'}\n"
	"    probe: 'http:80/health,every=100ms'\n"
	"    after: {ledger: ready}\n"
	"  clerk:\n"
	"    image: selwick/base\n"
	"    command: [sleep, '${CLERK}']\n"
	"    after: [gauge]\n";

static void begin(void)
{
	put_file("harbour.yaml", harbour);
	CODE(hull("launch --settings harbour.yaml"), 0);
}

static void end(void)
{
	CODE(hull("remove --force group:harbour"), 0);
	SAYS(hull("list --all")->out, "there are no containers");
	CHECK_TEXT(hull("list networks -q")->out, "");
	CODE(hull("remove volume:berths"), 0);
}

static void keep_id(const char *name, char id[32])
{
	snprintf(id, 32, "%s", field(name, "id"));
}

/* What stands on a line of its own further up comes first. */
static bool comes_before(const char *text, const char *one, const char *other)
{
	const char *first = strstr(text, one), *second = strstr(text, other);

	if (first && second && first < second)
		return true;
	printf("\n    \"%s\" is not before \"%s\" in: %s\n", one, other, text);
	return false;
}

/* ---- up and down ---- */

static void it_comes_up_in_its_order(void)
{
	struct result *result;
	char hosts[OUTPUT_BYTES];

	put_file("harbour.yaml", harbour);
	result = hull("launch --settings harbour.yaml --plan");
	CODE(result, 0);
	SAYS(result->out, "nothing was changed");
	SAYS(hull("list --all")->out, "there are no containers");
	CHECK_TEXT(hull("list volumes -q")->out, "");
	result = hull("launch --settings harbour.yaml");
	CODE(result, 0);
	CHECK(comes_before(result->out, "ledger           ready",
		"gauge-1          launched"));
	CHECK(comes_before(result->out, "gauge-2          ready",
		"clerk            launched"));
	SAYS(result->out, "group harbour: 4 of 4 containers run");
	SAYS(fetch("127.0.0.1", 8081, "/"), "tide gauge north 1");
	SAYS(fetch("127.0.0.1", 8082, "/"), "tide gauge north 2");
	/* By name, and all copies by the one that they have in the file. */
	snprintf(hosts, sizeof(hosts), "%s",
		hull("exec clerk -- cat /etc/hosts")->out);
	SAYS(hosts, " ledger\n");
	SAYS(hosts, " gauge-1 gauge\n");
	SAYS(hosts, " gauge-2 gauge\n");
	SAYS(hull("exec clerk -- env")->out, "PORT_NAME=Selwick");
	SAYS(hull("exec gauge-1 -- env")->out, "PORT_NAME=Selwick");
	end();
}

static void it_is_one_object(void)
{
	struct result *result;

	begin();
	result = hull("list");
	SAYS(result->out, "group:harbour  4 of 4 running");
	SAYS(hull("show group:harbour")->out, "gauge-1 ready, gauge-2 ready");
	CHECK_TEXT(hull("show group:harbour --field containers.0.name")->out,
		"ledger\n");
	CHECK_TEXT(field("gauge-1", "group"), "harbour");
	SAYS(hull("logs group:harbour")->out, "ledger:  ");
	SAYS(hull("timeline group:harbour")->out, "gauge-2");
	SAYS(hull("ports group:harbour")->out, "8082");
	SAYS(hull("why group:harbour")->out, "clerk");
	SAYS(hull("meter group:harbour --once")->out, "gauge-2");
	result = hull("stop group:harbour");
	CODE(result, 0);
	CHECK(comes_before(result->out, "stopped clerk", "stopped gauge"));
	CHECK(comes_before(result->out, "stopped gauge-2", "stopped ledger"));
	CHECK(fetch("127.0.0.1", 8081, "/health") == NULL);
	result = hull("start group:harbour");
	CODE(result, 0);
	CHECK(comes_before(result->out, "ledger           ready",
		"gauge-1          started"));
	CODE(hull("restart group:harbour"), 0);
	CHECK(fetch("127.0.0.1", 8081, "/health") != NULL);
	/* Where one container is wanted, those there are are told. */
	result = hull("exec group:harbour -- true");
	CODE(result, 125);
	SAYS(result->err, "give one of its containers: ledger, ");
	SAYS(hull("exec harbour -- true")->err, "it is a group");
	CODE(hull("stop group:nosuch"), 3);
	/* Its network has the same name. */
	result = hull("remove harbour");
	CODE(result, 2);
	SAYS(result->err, "group:harbour");
	CODE(hull("remove group:harbour"), 4);
	end();
}

static void start_all_due_keeps_the_order(void)
{
	struct result *result;

	put_file("harbour.yaml",
		"group: harbour\ncommon: {image: selwick/base, restart: "
		"always, network: none, command: [sleep, '1000']}\n"
		"containers:\n  a: {after: [b]}\n  b: {}\n");
	CODE(hull("launch --settings harbour.yaml"), 0);
	kill_keeper("a");
	kill_keeper("b");
	result = hull("start --all-due");
	CODE(result, 0);
	CHECK(comes_before(result->out, "  b  ", "  a  "));
	CODE(hull("remove --force group:harbour"), 0);
}

/* ---- changes ---- */

static void only_what_differs_is_done(void)
{
	char ledger[32], gauge[32], clerk[32];
	struct result *result;

	begin();
	keep_id("ledger", ledger);
	keep_id("gauge-1", gauge);
	keep_id("clerk", clerk);
	result = hull("launch --settings harbour.yaml");
	CODE(result, 0);
	CHECK_TEXT(field("gauge-1", "id"), gauge);
	SAYS(hull("launch --settings harbour.yaml --plan")->out,
		"there is nothing to do");
	result = hull(
		"launch --settings harbour.yaml --given WATCH=south --plan");
	SAYS(result->out, "gauge-1    recreate      changed: env");
	SAYS(result->out, "clerk      leave");
	CODE(hull("launch --settings harbour.yaml --given WATCH=south"), 0);
	SAYS(fetch("127.0.0.1", 8081, "/"), "tide gauge south 1");
	CHECK(strcmp(field("gauge-1", "id"), gauge) != 0);
	CHECK_TEXT(field("ledger", "id"), ledger);
	CHECK_TEXT(field("clerk", "id"), clerk);
	/* One that was changed by hand is as described again. */
	CODE(hull("recreate clerk --env MODE=test"), 0);
	CHECK_TEXT(field("clerk", "group"), "harbour");
	SAYS(hull("launch --settings harbour.yaml --given WATCH=south --plan")
			->out,
		"clerk      recreate      changed: by-hand");
	CODE(hull("launch --settings harbour.yaml --given WATCH=south"), 0);
	CHECK(strstr(hull("exec clerk -- env")->out, "MODE") == NULL);
	/* And one that was stopped runs. */
	CODE(hull("stop clerk"), 0);
	result = hull("launch --settings harbour.yaml --given WATCH=south");
	SAYS(result->out, "clerk            started");
	end();
}

static void what_the_file_no_longer_has_goes(void)
{
	struct result *result;

	begin();
	/* Under another name it has the ports of those that go. */
	put_file("harbour.yaml",
		"group: harbour\ncontainers:\n"
		"  ledger: {image: selwick/ledger, mount: "
		"[/data=volume:berths], probe: 'tcp:7070,every=100ms', env: "
		"{PORT_NAME: Selwick}, stop: grace=1s}\n"
		"  buoy: {image: selwick/gauge, port: [80=8081]}\n");
	result = hull("launch --settings harbour.yaml");
	CODE(result, 2);
	SAYS(result->err, "no longer has ");
	SAYS(result->err, "--yes");
	CHECK(fetch("127.0.0.1", 8082, "/health") != NULL);
	result = hull("launch --settings harbour.yaml --yes");
	CODE(result, 0);
	SAYS(result->out, "ledger           left as it was");
	SAYS(result->out, "removed, as the file no longer has it");
	CHECK(fetch("127.0.0.1", 8082, "/health") == NULL);
	CHECK(fetch("127.0.0.1", 8081, "/health") != NULL);
	SAYS(hull("list --all")->out, "2 of 2 running");
	end();
}

static void show_writes_such_a_file(void)
{
	begin();
	put_file("again.yaml", hull("show group:harbour --settings")->out);
	put_file("two.yaml", hull("show ledger clerk --settings")->out);
	end();
	CODE(hull("launch --settings again.yaml"), 0);
	SAYS(fetch("127.0.0.1", 8082, "/"), "tide gauge north 2");
	SAYS(hull("launch --settings again.yaml --plan")->out,
		"there is nothing to do");
	end();
	CODE(hull("launch --settings two.yaml"), 0);
	SAYS(hull("list")->out, "group:harbour  2 of 2 running");
	end();
}

/* ---- failures ---- */

static void the_rest_is_kept_or_undone(void)
{
	struct result *result;
	char ledger[32], gauge[32];

	begin();
	keep_id("ledger", ledger);
	keep_id("gauge-1", gauge);
	/* The gauges can be made anew; the clerk cannot. */
	CODE(other("sh -c 'sed -e \"s/STATION: ./&new /\" -e s/sleep/nosuch/ "
		   "harbour.yaml >bad.yaml'"),
		0);
	result = hull("launch --settings bad.yaml --on-failure undo");
	CODE(result, 1);
	SAYS(result->err, "does not have a program \"nosuch\"");
	SAYS(result->err, "the group \"harbour\" is as it was before");
	CHECK_TEXT(field("gauge-1", "id"), gauge);
	CHECK_TEXT(field("ledger", "id"), ledger);
	SAYS(fetch("127.0.0.1", 8081, "/"), "tide gauge north 1");
	SAYS(hull("list --all")->out, "4 of 4 running");
	result = hull("launch --settings bad.yaml");
	CODE(result, 1);
	SAYS(result->err, "clerk is as it was before, and runs");
	SAYS(fetch("127.0.0.1", 8081, "/"), "tide gauge new north 1");
	SAYS(hull("list --all")->out, "4 of 4 running");
	end();
	/* Of one that comes up for the first time nothing is left. */
	result = hull("launch --settings bad.yaml --on-failure undo");
	CODE(result, 1);
	SAYS(hull("list --all")->out, "there are no containers");
	/* Who waits for one that fails is not begun. */
	CODE(other("sh -c 'sed s/tcp:7070/tcp:7071/ harbour.yaml >bad.yaml'"),
		0);
	result = hull("launch --settings bad.yaml --ready-within 1s");
	CODE(result, 1);
	SAYS(result->err, "\"ledger\", which was not ready within 1 second");
	SAYS(result->err, "not begun: clerk");
	end();
}

static void one_that_has_to_end_is_waited_for(void)
{
	struct result *result;

	put_file("harbour.yaml",
		"group: harbour\ngiven: {CODE: 0}\ncommon: {image: "
		"selwick/base, network: none}\ncontainers:\n"
		"  fill: {command: [sh, -c, 'echo filled > /data/x; exit "
		"${CODE}'], mount: [/data=volume:berths]}\n"
		"  use: {command: [sh, -c, 'cat /data/x; sleep 1000'], mount: "
		"[/data=volume:berths], after: {fill: ended}}\n");
	CODE(hull("launch --settings harbour.yaml"), 0);
	SAYS(hull("logs use")->out, "filled");
	CODE(hull("remove --force group:harbour"), 0);
	result = hull("launch --settings harbour.yaml --given CODE=3");
	CODE(result, 1);
	SAYS(result->err, "\"fill\", which did not end well");
	CODE(hull("remove --force group:harbour"), 0);
	CODE(hull("remove volume:berths"), 0);
}

/* ---- mistakes ---- */

static void mistakes_are_told_at_once(void)
{
	struct result *result;

	put_file("bad.yaml",
		"group: harbour\n"
		"containers:\n"
		"  a: {image: selwick/base, after: [b], prot: [80]}\n"
		"  b: {image: selwick/base, after: {a: running}}\n"
		"  c: {after: {d: ready}}\n"
		"  e: {image: selwick/base, after: {a: ready}, count: 0}\n"
		"  f: {image: selwick/base, name: g, env: {X: '${NOSUCH}'}}\n"
		"sails: red\n");
	result = hull("launch --settings bad.yaml");
	CODE(result, 2);
	SAYS(result->err, "line 3, column 40: a container has no key \"prot\"");
	SAYS(result->err, "did you mean \"port\"?");
	SAYS(result->err, "containers wait for one another: \"a, b\"");
	SAYS(result->err, "line 5, column 6: the container \"c\" has no image");
	SAYS(result->err, "there is no container \"d\"");
	SAYS(result->err,
		"no probe could tell that it is ready: container "
		"\"a\"");
	SAYS(result->err, "\"count\" takes a number from 1 to 100");
	SAYS(result->err, "a container of a group is named by its key");
	SAYS(result->err, "no value is given for \"NOSUCH\"");
	SAYS(result->err, "a group has no key \"sails\"");
	SAYS(hull("list --all")->out, "there are no containers");
	put_file("bad.yaml", "containers: {a: {image: selwick/base}}\n");
	SAYS(hull("launch --settings bad.yaml")->err,
		"several containers need a name for the group");
	put_file("bad.yaml", "group: harbour\ncontainers: {}\n");
	SAYS(hull("launch --settings bad.yaml")->err, "no containers");
	/* What is right by itself, but cannot be done. */
	put_file("bad.yaml",
		"group: harbour\ncontainers:\n"
		"  a: {image: selwick/gauge, port: [80=8081], mount: "
		"[/x=./nosuch]}\n"
		"  b: {image: selwick/nosuch, port: [80=8081]}\n"
		"  c: {image: selwick/gauge, count: 3, port: "
		"[80=9000-9001]}\n");
	result = hull("launch --settings bad.yaml");
	CODE(result, 2);
	SAYS(result->err, "fewer ports than there are copies (3)");
	CODE(other("sed -i s/9001/9002/ bad.yaml"), 0);
	result = hull("launch --settings bad.yaml");
	CHECK(result->code != 0);
	SAYS(result->err, "a: mount source ");
	SAYS(result->err, "a and b both want port 8081/tcp");
	SAYS(result->err, "selwick/nosuch");
	SAYS(hull("list --all")->out, "there are no containers");
	CHECK_TEXT(hull("list networks -q")->out, "");
}

static void others_keep_what_is_theirs(void)
{
	struct result *result;

	put_file("harbour.yaml",
		"group: harbour\ncommon: {image: selwick/base, network: none, "
		"command: [sleep, '1000']}\ncontainers: {a: {}, b: {}}\n");
	put_file("coast.yaml",
		"group: coast\ncommon: {image: selwick/base, network: none, "
		"command: [sleep, '1000']}\ncontainers: {b: {}, c: {}}\n");
	CODE(hull("create selwick/base --name c --network none -- true"), 0);
	CODE(hull("launch --settings harbour.yaml"), 0);
	/* A file that is half of another group. */
	result = hull("launch --settings coast.yaml");
	CODE(result, 4);
	SAYS(result->err,
		"b: the name is taken by a container of the group "
		"\"harbour\"");
	SAYS(result->err,
		"c: the name is taken by a container that belongs to "
		"no group");
	SAYS(hull("list --all")->out, "2 of 2 running");
	/* Options of one container are of none. */
	result = hull("launch --settings harbour.yaml --env X=1");
	CODE(result, 2);
	SAYS(result->err, "--env does not say which container");
	CODE(hull("launch selwick/base --settings harbour.yaml"), 2);
	CODE(hull("launch --settings harbour.yaml --given NOSUCH=1"), 2);
	result = hull("run --settings harbour.yaml");
	CODE(result, 125);
	SAYS(result->err, "tidyhull launch --settings harbour.yaml");
	CODE(hull("remove c"), 0);
	CODE(hull("remove --force group:harbour"), 0);
}

static void networks_and_volumes_are_described(void)
{
	struct result *result;

	put_file("values", "SUBNET=172.30.7.0/24\n# of the pier\nNAME=deck\n");
	put_file("harbour.yaml",
		"group: harbour\ngiven-from: ./values\n"
		"volumes: [berths, '${NAME}']\n"
		"networks: {pier: {subnet: '${SUBNET}', internal: true}}\n"
		"containers:\n"
		"  a: {image: selwick/base, command: [sleep, '1000'], network: "
		"'pier,address=172.30.7.9'}\n"
		"  b: {image: selwick/base, command: [sleep, '1000'], network: "
		"'with:a'}\n");
	CODE(hull("launch --settings harbour.yaml"), 0);
	SAYS(hull("show network:pier")->out, "172.30.7.0/24");
	CHECK_TEXT(field("a", "address"), "172.30.7.9");
	SAYS(hull("exec b -- cat /proc/net/fib_trie")->out, "172.30.7.9");
	SAYS(hull("list volumes -q")->out, "deck");
	/* Whoever shares its network keeps it. */
	CODE(other("sed -i s/1000/1001/ harbour.yaml"), 0);
	result = hull("launch --settings harbour.yaml");
	CODE(result, 4);
	SAYS(result->err, "shares the network of \"a\"");
	CODE(hull("remove --force group:harbour"), 0);
	CODE(other("sed -i s/true/false/ harbour.yaml"), 0);
	result = hull("launch --settings harbour.yaml");
	CODE(result, 4);
	SAYS(result->err,
		"the network \"pier\" is there already, and is "
		"another one");
	CODE(hull("remove network:pier volume:berths volume:deck"), 0);
}

static void images_can_be_built(void)
{
	struct result *result;
	char digest[80];

	CODE(other("mkdir docks"), 0);
	put_file("docks/notice", "high water at noon\n");
	put_file("docks/notice.yaml",
		"image: selwick/notice\nfrom: selwick/base\nsteps:\n"
		"  - put: {/etc/notice: ./notice}\n");
	put_file("harbour.yaml",
		"group: harbour\ncontainers:\n  a: {build: "
		"./docks/notice.yaml, "
		"network: none, command: [sleep, '1000']}\n");
	SAYS(hull("launch --settings harbour.yaml --plan")->out, "create");
	CODE(hull("launch --settings harbour.yaml"), 0);
	CHECK_TEXT(
		hull("exec a -- cat /etc/notice")->out, "high water at noon\n");
	snprintf(digest, sizeof(digest), "%s", field("a", "image-digest"));
	result = hull("launch --settings harbour.yaml");
	SAYS(result->out, "left as it was");
	put_file("docks/notice", "low water at noon\n");
	result = hull("launch --settings harbour.yaml");
	CODE(result, 0);
	SAYS(result->out, "changed: image");
	CHECK_TEXT(
		hull("exec a -- cat /etc/notice")->out, "low water at noon\n");
	CHECK(strcmp(field("a", "image-digest"), digest) != 0);
	put_file("docks/notice.yaml", "from: nothing\nstep: []\n");
	result = hull("launch --settings harbour.yaml");
	CHECK(result->code != 0);
	SAYS(result->err, "could not be built");
	CHECK_TEXT(field("a", "state"), "running");
	CODE(hull("remove --force group:harbour"), 0);
	CODE(hull("remove selwick/notice"), 0);
}

static void two_launches_take_turns(void)
{
	pid_t one, other_one;

	begin();
	one = hull_start("one",
		"launch --settings harbour.yaml --given "
		"WATCH=east");
	other_one = hull_start("other",
		"launch --settings harbour.yaml "
		"--given WATCH=west");
	CHECK_INT(wait_for(one), 0);
	CHECK_INT(wait_for(other_one), 0);
	/* Whichever was the last: both gauges are of the same watch. */
	CHECK_INT(strstr(fetch("127.0.0.1", 8081, "/"), "east 1") != NULL,
		strstr(fetch("127.0.0.1", 8082, "/"), "east 2") != NULL);
	CHECK_INT(strstr(fetch("127.0.0.1", 8081, "/"), "west 1") != NULL,
		strstr(fetch("127.0.0.1", 8082, "/"), "west 2") != NULL);
	end();
}

static bool clerk_is_new(void *arg)
{
	const char *id = arg;

	return strcmp(field("clerk", "state"), "running") == 0 &&
		strcmp(field("clerk", "id"), id) != 0;
}

/* Ctrl-C ends it at once; what was on its way is as it was. */
static void one_that_is_interrupted_is_undone(void)
{
	char id[32];
	pid_t pid;

	begin();
	keep_id("clerk", id);
	CODE(other("sh -c 'sed \"s/after: .gauge./probe: exec:false/\" "
		   "harbour.yaml >slow.yaml'"),
		0);
	pid = hull_start(
		"out", "launch --settings slow.yaml --ready-within 1h");
	CHECK(wait_until(clerk_is_new, id));
	signal_to(pid, SIGINT);
	CHECK(ends_by_itself(pid));
	CHECK_INT(wait_for(pid), 1);
	CHECK_TEXT(field("clerk", "id"), id);
	CHECK_TEXT(field("clerk", "state"), "running");
	SAYS(hull("list --all")->out, "4 of 4 running");
	end();
}

/* ---- death ---- */

static void killed_launches_can_be_done_again(void)
{
	struct step step = {.program = "tidyhull"};
	const char *every = getenv("HULL_EVERY");
	int code = 0;

	put_file("harbour.yaml",
		"group: harbour\ngiven: {ROUND: 0}\ncommon: {image: "
		"selwick/base, network: none, stop: grace=0s, command: [sleep, "
		"'1000'], env: {ROUND: '${ROUND}'}}\n"
		"containers: {a: {}, b: {after: [a]}, c: {}}\n");
	CODE(hull("pull selwick/base"), 0);
	while (hull_step(&step, &code,
		"launch --settings harbour.yaml --given ROUND=%ld",
		step.number)) {
		CODE(hull("launch --settings harbour.yaml --yes -q"), 0);
		SAYS(hull("list --all")->out, "3 of 3 running");
		CHECK_INT(atoi(as_root("sh -c 'ls %s/containers | wc -l'",
				  world_store)
					  ->out),
			3);
		step.number += every ? atol(every) : 25;
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 40);
	/* A keeper that is killed takes its own container only. */
	kill_keeper("b");
	SAYS(hull("list")->out, "2 of 3 running");
	CODE(hull("launch --settings harbour.yaml --yes -q"), 0);
	SAYS(hull("list")->out, "3 of 3 running");
	CODE(hull("remove --force group:harbour"), 0);
}

static const CU_TestInfo tests[] = {
	{"it comes up in its order", it_comes_up_in_its_order},
	{"it is one object", it_is_one_object},
	{"start --all-due keeps the order", start_all_due_keeps_the_order},
	{"only what differs is done", only_what_differs_is_done},
	{"what the file no longer has goes", what_the_file_no_longer_has_goes},
	{"show writes such a file", show_writes_such_a_file},
	{"the rest is kept or undone", the_rest_is_kept_or_undone},
	{"one that has to end is waited for",
		one_that_has_to_end_is_waited_for},
	{"mistakes are told at once", mistakes_are_told_at_once},
	{"others keep what is theirs", others_keep_what_is_theirs},
	{"networks and volumes are described",
		networks_and_volumes_are_described},
	{"images can be built", images_can_be_built},
	{"two launches take turns", two_launches_take_turns},
	{"one that is interrupted is undone",
		one_that_is_interrupted_is_undone},
	{"killed launches can be done again",
		killed_launches_can_be_done_again},
	CU_TEST_INFO_NULL};

const struct suite suite_group = {"group", tests};
