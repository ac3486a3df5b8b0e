/* capture: images of what containers have changed. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

/* A web page written by hand, and its server's settings. */
static void a_changed_container_becomes_an_image(void)
{
	json_t *doc, *config;

	CODE(hull("run selwick/base --name work --keep --network none --env "
		  "STATION=north --user 0 -- sh -c 'mkdir "
		  "/srv/www; echo 5.1 m > /srv/www/index.html; rm /bin/cat; "
		  "chmod 4755 /bin/busybox; mkfifo /srv/pipe'"),
		0);
	CODE(hull("capture work selwick/tides:1 --workdir /srv/www --port "
		  "8000 --label kind=page -- ls -l /srv/www"),
		0);
	SAYS(hull("run selwick/tides:1 --network none")->out, "index.html");
	SAYS(hull("run selwick/tides:1 --network none -- sh -c 'test -p "
		  "/srv/pipe && ls -l /bin/busybox && pwd && echo $STATION'")
			->out,
		"/srv/www\nnorth");
	CODE(hull("run selwick/tides:1 --network none -- test -e /bin/cat"), 1);
	doc = hull_shown("selwick/tides:1");
	config = json_object_get(doc, "config");
	CHECK(json_is_object(json_object_get(
		json_object_get(config, "ExposedPorts"), "8000/tcp")));
	CHECK_TEXT(json_string_value(json_object_get(
			   json_object_get(config, "Labels"), "kind")),
		"page");
	SAYS(json_string_value(
		     json_object_get(json_object_get(config, "Labels"),
			     "org.opencontainers.image.base.name")),
		"selwick/base");
	json_decref(doc);
	/* The same once more is the same, at the same time. */
	setenv("SOURCE_DATE_EPOCH", "1772341964", 1);
	doc = hull_json("capture work selwick/tides:2 --json");
	config = hull_json("capture work selwick/tides:3 --json");
	unsetenv("SOURCE_DATE_EPOCH");
	CHECK_TEXT(json_string_value(json_object_get(doc, "digest")),
		json_string_value(json_object_get(config, "digest")));
	json_decref(doc);
	json_decref(config);
	CODE(hull("remove work"), 0);
}

static void what_is_not_in_it_is_said(void)
{
	struct result *result;

	put_file("pw", "m00ring-7");
	CODE(hull("create selwick/base --name box --network none --env "
		  "PASSWORD=@file:%s/pw --env MODE=test --mount "
		  "/data=volume:ledger -- sleep 1000",
		     world_folder),
		0);
	/* Nothing was written yet: the settings alone make an image. */
	result = hull("capture box selwick/box:0");
	CODE(result, 0);
	SAYS(result->out, "no file has changed");
	CODE(hull("start box"), 0);
	CODE(hull("exec box -- sh -c 'echo kept > /data/kept; echo new > "
		  "/new'"),
		0);
	result = hull("capture box selwick/box:1 --compress zstd");
	CODE(result, 0);
	SAYS(result->err, "what is mounted at /data");
	SAYS(result->err, "the values of PASSWORD");
	/* It goes on. */
	CHECK_TEXT(field("box", "state"), "running");
	SAYS(hull("run selwick/box:1 --network none -- sh -c 'cat /new; echo "
		  "$MODE$PASSWORD; ls /data'")
			->out,
		"new\ntest\n");
	CODE(hull("pause box"), 0);
	CODE(hull("capture box selwick/box:2 --compress none"), 0);
	CHECK_TEXT(field("box", "state"), "paused");
	CODE(hull("remove --force box"), 0);
}

static void captured_images_travel(void)
{
	int port;

	copy_images("images");
	port = start_chandler("images", "registry", "--writable");
	write_config(&port, 1);
	CODE(hull("run selwick/base --name work --keep --network none -- sh -c "
		  "'echo by hand > /note; rm -r /usr/share/selwick'"),
		0);
	CODE(hull("capture work localhost:%d/selwick/work:1 --compress zstd",
		     port),
		0);
	CODE(hull("push localhost:%d/selwick/work:1", port), 0);
	CODE(hull("pack localhost:%d/selwick/work:1 %s/work.tar", port,
		     world_folder),
		0);
	CODE(hull("remove work localhost:%d/selwick/work:1", port), 0);
	SAYS(hull("run localhost:%d/selwick/work:1 --network none -- cat /note",
		     port)
			->out,
		"by hand");
	CODE(hull("remove localhost:%d/selwick/work:1", port), 0);
	SAYS(hull("run %s/work.tar --network none -- cat /note", world_folder)
			->out,
		"by hand");
}

static bool is_running(void *arg)
{
	(void)arg;
	return strcmp(field("box", "state"), "running") == 0;
}

/* One that is killed leaves no container paused and nothing half made. */
static void a_killed_capture_leaves_nothing(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("exec box -- sh -c 'for i in 1 2 3 4 5 6 7 8; do dd "
		  "if=/dev/urandom of=/f$i bs=64k count=16; done'"),
		0);
	for (int ms = 2; ms < 120; ms += 7) {
		pid_t pid = hull_start("out", "capture box selwick/box:1");

		usleep((useconds_t)ms * 1000);
		kill(pid, SIGKILL);
		wait_for(pid);
		/* The keeper hears of it in its own time. */
		CHECK(wait_until(is_running, NULL));
	}
	CODE(hull("capture box selwick/box:1"), 0);
	SAYS(hull("run selwick/box:1 --network none -- sh -c 'cat /f? | wc -c'")
			->out,
		"8388608");
	CODE(hull("remove --force box"), 0);
	CODE(hull("sweep --yes"), 0);
	SAYS(hull("sweep")->out, "there is nothing to remove");
}

static bool is_paused(void *arg)
{
	(void)arg;
	return strcmp(field("box", "state"), "paused") == 0;
}

static void one_that_is_removed_meanwhile(void)
{
	pid_t pid;
	int code;

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("exec box -- sh -c 'for i in $(seq 30); do dd "
		  "if=/dev/urandom of=/f$i bs=1M count=4; done'"),
		0);
	pid = hull_start("out", "capture box selwick/box:1");
	CHECK(wait_until(is_paused, NULL));
	CODE(hull("remove --force box"), 0);
	code = wait_for(pid);
	/* It may have been quicker. */
	CHECK(code == 0 || code == 3);
	if (code)
		CHECK(file_holds("out", "was removed while it was captured"));
	CHECK_INT(hull("show selwick/box:1")->code, code);
	SAYS(hull("list --all")->out, "there are no containers");
}

static void mistakes_of_a_capture_are_told(void)
{
	struct result *result;

	CODE(hull("capture nobody selwick/x"), 3);
	CODE(hull("create selwick/base --name box --network none -- true"), 0);
	result = hull("capture box Selwick/X");
	CODE(result, 2);
	SAYS(result->err, "lower-case");
	result = hull("capture box selwick/x@sha256:"
		      "0123456789012345678901234567890123456789012345678901234"
		      "567890123");
	CODE(result, 2);
	SAYS(result->err, "digest");
	result = hull("capture box selwick/x --env TOKEN=@ask");
	CODE(result, 2);
	SAYS(result->err, "cannot be kept in an image");
	CODE(hull("capture box selwick/x --port 99999"), 2);
	CODE(hull("capture box selwick/x --workdir srv"), 2);
	CODE(hull("capture box selwick/x --stop signal=NONE"), 2);
	CODE(hull("capture box selwick/x --stop grace=3s"), 2);
	CODE(hull("capture box selwick/x --compress brotli"), 2);
	setenv("SOURCE_DATE_EPOCH", "yesterday", 1);
	result = hull("capture box selwick/x");
	unsetenv("SOURCE_DATE_EPOCH");
	CODE(result, 2);
	SAYS(result->err, "SOURCE_DATE_EPOCH");
	CODE(hull("show selwick/x"), 3);
	CODE(hull("remove box"), 0);
}

static const CU_TestInfo tests[] = {
	{"a changed container becomes an image",
		a_changed_container_becomes_an_image},
	{"what is not in it is said", what_is_not_in_it_is_said},
	{"captured images travel", captured_images_travel},
	{"a killed capture leaves nothing", a_killed_capture_leaves_nothing},
	{"one that is removed meanwhile", one_that_is_removed_meanwhile},
	{"mistakes of a capture are told", mistakes_of_a_capture_are_told},
	CU_TEST_INFO_NULL};

const struct suite suite_capture = {"capture", tests};
