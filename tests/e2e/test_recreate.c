/* The same container anew: what stays, what changes, and what happens where the
 * new one comes to nothing. */
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "e2e/harness.h"

#define PORT 8080

static void launch(const char *more)
{
	CODE(hull("launch selwick/gauge --name g --port 80=%d --env "
		  "STATION=north %s",
		     PORT, more),
		0);
	CHECK(fetch("127.0.0.1", PORT, "/health") != NULL);
}

/* One container and nothing of another one. */
static void check_alone(const char *name)
{
	CODE(hull("list --all -q"), 0);
	CHECK_TEXT(field(name, "name"), name);
	CHECK_INT(atoi(as_root("sh -c 'ls %s/containers | wc -l'", world_store)
				  ->out),
		1);
}

/* ---- what stays ---- */

static void others_change_and_the_rest_stays(void)
{
	char id[32];

	put_file("pw", "deep water");
	launch("--env PASSWORD=@file:./pw --secret key=@file:./pw "
	       "--host buoy=192.0.2.7 --capability -CHOWN");
	snprintf(id, sizeof(id), "%s", field("g", "id"));
	CODE(hull("exec g -- sh -c 'echo mine > /mine'"), 0);
	SAYS(hull("recreate g --env STATION=south --workdir /srv")->out,
		"recreated g (");
	check_alone("g");
	CHECK(strcmp(field("g", "id"), id) != 0);
	CHECK_TEXT(field("g", "state"), "running");
	SAYS(fetch("127.0.0.1", PORT, "/"), "tide gauge south");
	/* What was written goes; hidden values come along, and stay hidden. */
	CODE(hull("exec g -- test -e /mine"), 1);
	CHECK_TEXT(hull("exec g -- sh -c 'echo $PASSWORD; pwd'")->out,
		"deep water\n/srv\n");
	SAYS(hull("exec g -- cat /run/tidyhull/key")->out, "deep water");
	SAYS(hull("show g --json")->out, "PASSWORD=(hidden)");
	SAYS(hull("exec g -- cat /etc/hosts")->out, "192.0.2.7");
	SAYS(hull("show g --json")->out, "-CHOWN");
	SAYS(hull("timeline g")->out, id);
	CODE(hull("remove g --force"), 0);
}

static void one_can_be_left_out(void)
{
	launch("--restart always --env MODE=test --mount /x=memory:1M");
	CODE(hull("recreate g --without restart --without env=MODE --without "
		  "mount=/x --port 80=8081"),
		0);
	CHECK_TEXT(field("g", "restart.policy"), "never");
	CHECK_TEXT(hull("exec g -- sh -c 'echo .$MODE.'")->out, "..\n");
	CODE(hull("exec g -- test -e /x"), 1);
	/* The port of the same place inside was replaced. */
	CHECK(fetch("127.0.0.1", 8081, "/health") != NULL);
	CHECK(fetch("127.0.0.1", PORT, "/health") == NULL);
	CODE(hull("recreate g --without nosuch"), 2);
	CODE(hull("recreate g --without env=MODE"), 2);
	SAYS(hull("recreate g --plan --env MODE=more")->out,
		"nothing was changed");
	CHECK_TEXT(hull("exec g -- sh -c 'echo .$MODE.'")->out, "..\n");
	CODE(hull("remove g --force"), 0);
}

static void its_volumes_come_along(void)
{
	CODE(hull("launch selwick/ledger --name l"), 0);
	CODE(hull("exec l -- sh -c 'echo berth 7 > /data/kept'"), 0);
	CODE(hull("recreate l --hostname jetty"), 0);
	CHECK_TEXT(hull("exec l -- sh -c 'cat /data/kept; hostname'")->out,
		"berth 7\njetty\n");
	check_alone("l");
	/* It is still the container's own, and goes with it. */
	CODE(hull("remove l --force"), 0);
	CHECK_TEXT(hull("list volumes -q")->out, "");
}

static void one_that_does_not_run_is_only_made(void)
{
	CODE(hull("create selwick/base --name box -- sh -c 'echo $MODE'"), 0);
	CODE(hull("recreate box --env MODE=test"), 0);
	CHECK_TEXT(field("box", "state"), "created");
	CODE(hull("start --attach box"), 0);
	SAYS(hull("logs box")->out, "test");
	CODE(hull("recreate box --env MODE=done -- sh -c 'echo $MODE again'"),
		0);
	CODE(hull("start --attach box"), 0);
	CHECK_TEXT(hull("logs box")->out, "done again\n");
	check_alone("box");
	CODE(hull("remove box"), 0);
}

/* Connections one after another until the parent says stop; the exit code is 0
 * where each was answered. */
static void knock(int until)
{
	struct sockaddr_in at = {.sin_family = AF_INET,
		.sin_port = htons(PORT),
		.sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	int refused = 0;
	char letter;

	while (recv(until, &letter, 1, MSG_DONTWAIT) < 0) {
		int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);

		if (connect(fd, (struct sockaddr *)(void *)&at, sizeof(at)))
			refused = 1;
		close(fd);
		usleep(500);
	}
	_exit(refused);
}

static void its_port_is_never_without_a_listener(void)
{
	int pair[2], code;
	pid_t pid;

	launch("");
	CHECK_INT(socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, pair), 0);
	pid = fork();
	if (pid == 0)
		knock(pair[1]);
	for (int i = 0; i < 5; i++)
		CODE(hull("recreate g --env ROUND=%d", i), 0);
	close(pair[1]);
	CHECK_INT(write(pair[0], "x", 1), 1);
	code = wait_for(pid);
	close(pair[0]);
	CHECK_INT(code, 0);
	SAYS(fetch("127.0.0.1", PORT, "/"), "tide gauge north");
	CODE(hull("remove g --force"), 0);
}

static void a_free_port_stays_the_same(void)
{
	char before[16];

	CODE(hull("launch selwick/gauge --name g --port 80"), 0);
	snprintf(before, sizeof(before), "%s", field("g", "ports.0.host-port"));
	CODE(hull("recreate g --env STATION=east"), 0);
	CHECK_TEXT(field("g", "ports.0.host-port"), before);
	CODE(hull("remove g --force"), 0);
}

/* Who has looked its name up once finds it at the same place. */
static void its_address_stays(void)
{
	char before[64];

	CODE(hull("launch selwick/base --name first -- sleep 1000"), 0);
	CODE(hull("launch selwick/base --name box -- sleep 1000"), 0);
	snprintf(before, sizeof(before), "%s", field("box", "address"));
	/* A lower one comes free. */
	CODE(hull("remove --force first"), 0);
	CODE(hull("recreate box --env MODE=test"), 0);
	CHECK_TEXT(field("box", "address"), before);
	/* One that is taken by then is not taken from anybody. */
	CODE(hull("stop box"), 0);
	CODE(hull("recreate box --env MODE=more"), 0);
	CODE(hull("start box"), 0);
	CHECK(strcmp(field("box", "address"), "") != 0);
	CODE(hull("remove --force box"), 0);
}

static void the_newest_image_is_taken(void)
{
	struct result *result;
	char id[32];
	int port;

	copy_images("own");
	port = start_chandler("own", "log", "--writable");
	write_config(&port, 1);
	CODE(hull("launch selwick/gauge --name g --port 80=%d", PORT), 0);
	snprintf(id, sizeof(id), "%s", field("g", "id"));
	CHECK(strstr(hull("list images")->out, "older") == NULL);
	/* Another image gets the name, here and there. */
	put_file("new.yaml",
		"from: selwick/gauge\nsteps: [{do: 'echo new > /new'}]\n");
	CODE(hull("build new.yaml --name selwick/next"), 0);
	CODE(hull("push selwick/next localhost:%d/selwick/gauge", port), 0);
	result = hull("restart --fetch always g");
	CODE(result, 0);
	SAYS(result->out, "restarted g (");
	SAYS(result->out, "is now ");
	CODE(hull("exec g -- cat /new"), 0);
	CHECK(strcmp(field("g", "id"), id) != 0);
	CHECK(fetch("127.0.0.1", PORT, "/health") != NULL);
	/* One that does not get ready is none. */
	put_file("bad.yaml",
		"from: selwick/next\nsettings: {entrypoint: [/bin/sh, -c, "
		"'echo "
		"leak; exit 1']}\n");
	CODE(hull("build bad.yaml --name selwick/bad"), 0);
	CODE(hull("push selwick/bad localhost:%d/selwick/gauge", port), 0);
	snprintf(id, sizeof(id), "%s", field("g", "id"));
	result = hull("restart --fetch always g");
	CODE(result, 1);
	SAYS(result->err, "| leak");
	SAYS(result->err, "g is as it was before, and runs");
	CHECK_TEXT(field("g", "id"), id);
	SAYS(hull("list images")->out, "g uses an older ");
	CODE(hull("restart --fetch missing g"), 2);
	CODE(hull("remove --force g"), 0);
}

/* ---- what comes to nothing ---- */

static void check_as_before(const char *id)
{
	check_alone("g");
	CHECK_TEXT(field("g", "id"), id);
	CHECK_TEXT(field("g", "state"), "running");
	SAYS(fetch("127.0.0.1", PORT, "/"), "tide gauge north");
}

static void what_fails_is_undone(void)
{
	struct result *result;
	char id[32];

	launch("");
	snprintf(id, sizeof(id), "%s", field("g", "id"));
	result = hull("recreate g --entrypoint /nosuch");
	CODE(result, 1);
	SAYS(result->err, "does not have a program \"/nosuch\"");
	SAYS(result->err, "g is as it was before, and runs");
	check_as_before(id);
	result = hull("recreate g --entrypoint sh -- -c 'echo rocks; exit 9'");
	CODE(result, 1);
	SAYS(result->err, "ended at once, with exit code 9");
	SAYS(result->err, "| rocks");
	check_as_before(id);
	result = hull("recreate g --probe http:81/ --ready-within 1s");
	CODE(result, 1);
	SAYS(result->err, "was not ready within 1 second");
	check_as_before(id);
	/* What is wrong from the start stops nothing. */
	CODE(hull("recreate g --mount /x=./nosuch"), 3);
	CODE(hull("recreate g --image selwick/nosuch"), 3);
	check_as_before(id);
	CODE(hull("remove g --force"), 0);
}

static bool stop_is_told(void *arg)
{
	(void)arg;
	return strstr(hull("logs box")->out, "told") != NULL;
}

/* Its stop cannot be called back; so it is started again when it has ended. */
static void one_interrupted_in_its_stop_runs_again(void)
{
	char id[32];
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none --stop "
		  "grace=2s -- sh -c 'trap \"echo told\" TERM; echo up; while "
		  ":; do sleep 0.1; done'"),
		0);
	snprintf(id, sizeof(id), "%s", field("box", "id"));
	pid = hull_start("out", "recreate box --env TIDE=high");
	CHECK(wait_until(stop_is_told, NULL));
	signal_to(pid, SIGINT);
	CHECK(ends_by_itself(pid));
	CHECK_INT(wait_for(pid), 1);
	SAYS(other("cat out")->out, "box is as it was before, and runs");
	check_alone("box");
	CHECK_TEXT(field("box", "id"), id);
	CHECK_TEXT(field("box", "state"), "running");
	CHECK_TEXT(hull("logs box")->out, "up\ntold\nup\n");
	CODE(hull("remove box --force"), 0);
}

static void what_others_need_is_not_replaced(void)
{
	struct result *result;

	launch("");
	CODE(hull("launch selwick/base --name guest --network with:g -- sleep "
		  "99"),
		0);
	result = hull("recreate g");
	CODE(result, 4);
	SAYS(result->err, "\"guest\" shares the network of \"g\"");
	CODE(hull("remove guest g --force"), 0);
}

/* ---- killed on the way ---- */

/* There is one, of the name, as it was or as it was to be, and it can be used.
 */
static void look_after(void)
{
	CODE(hull("list --all -q"), 0);
	check_alone("box");
	if (strcmp(field("box", "state"), "running") != 0)
		CODE(hull("start box"), 0);
	CODE(hull("exec box -- cat /etc/kept/passwd"), 0);
	CODE(hull("stop box --grace 0s"), 0);
	CODE(hull("start box"), 0);
}

static void recreate_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	const char *every = getenv("HULL_EVERY");
	int code = 0;

	CODE(hull("launch selwick/base --name box --network none --mount "
		  "/etc/kept=volume:kept --stop grace=0s -- sleep 1000"),
		0);
	CODE(hull("exec box -- cp /etc/passwd /etc/kept"), 0);
	while (hull_step(&step, &code, "recreate box --env ROUND=1")) {
		int before = CU_get_number_of_failures();

		look_after();
		if (CU_get_number_of_failures() > (unsigned int)before)
			printf("    at call %ld\n", step.number);
		step.number += every ? atol(every) : 9;
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 40);
	CODE(hull("remove box --force"), 0);
	CODE(hull("remove volume:kept"), 0);
}

static void a_killed_one_is_the_old_or_the_new(void)
{
	recreate_in_steps(0);
}

static void a_refused_one_is_the_old_or_the_new(void)
{
	recreate_in_steps(ENOSPC);
}

static const CU_TestInfo tests[] = {
	{"others change and the rest stays", others_change_and_the_rest_stays},
	{"one can be left out", one_can_be_left_out},
	{"its volumes come along", its_volumes_come_along},
	{"one that does not run is only made",
		one_that_does_not_run_is_only_made},
	{"its port is never without a listener",
		its_port_is_never_without_a_listener},
	{"a free port stays the same", a_free_port_stays_the_same},
	{"its address stays", its_address_stays},
	{"the newest image is taken", the_newest_image_is_taken},
	{"what fails is undone", what_fails_is_undone},
	{"one interrupted in its stop runs again",
		one_interrupted_in_its_stop_runs_again},
	{"what others need is not replaced", what_others_need_is_not_replaced},
	{"a killed one is the old or the new",
		a_killed_one_is_the_old_or_the_new},
	{"a refused one is the old or the new",
		a_refused_one_is_the_old_or_the_new},
	CU_TEST_INFO_NULL};

const struct suite suite_recreate = {"recreate", tests};
