/* push: only what is missing, mounted where it can be, in pieces or whole. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

/* A writable registry with the demo images. */
static int start_open(const char *folder, const char *log, const char *more)
{
	int ports[2];

	copy_images(folder);
	ports[0] = world_registry_port;
	ports[1] = start_chandler(folder, log, "--writable %s", more);
	write_config(ports, 2);
	return ports[1];
}

static int start_empty(const char *folder, const char *log, const char *more)
{
	int ports[2];

	other("sh -c 'mkdir -p %s/blobs/sha256; echo "
	      "{\\\"imageLayoutVersion\\\":\\\"1.0.0\\\"} >%s/oci-layout; "
	      "echo {\\\"schemaVersion\\\":2,\\\"manifests\\\":[]} "
	      ">%s/index.json'",
		folder, folder, folder);
	ports[0] = world_registry_port;
	ports[1] = start_chandler(folder, log, "--writable %s", more);
	write_config(ports, 2);
	return ports[1];
}

static void pull_gauge(void)
{
	CODE(hull("pull localhost:%d/selwick/gauge", world_registry_port), 0);
}

/* Takes it away here, and pulls it from there. */
static void comes_back(int port, const char *name)
{
	CODE(hull("remove selwick/gauge"), 0);
	CODE(hull("pull localhost:%d/%s", port, name), 0);
	CODE(hull("run localhost:%d/%s --entrypoint '' -- true", port, name),
		0);
}

static void an_image_goes_whole_and_once(void)
{
	int port = start_empty("new", "log", "");
	struct result *result;
	json_t *doc;

	pull_gauge();
	result = hull("push selwick/gauge localhost:%d/tower/gauge:2", port);
	CODE(result, 0);
	SAYS(result->out, "3 of 3 layers");
	CHECK_INT(
		count_lines_with("log", "PUT /v2/tower/gauge/blobs", "201"), 4);
	/* The manifest comes last, when all is there. */
	CHECK_INT(count_lines_with(
			  "log", "PUT /v2/tower/gauge/manifests/2", "201"),
		1);
	result = hull("push selwick/gauge localhost:%d/tower/gauge:3", port);
	SAYS(result->out, "0 of 3 layers");
	CHECK_INT(
		count_lines_with("log", "PUT /v2/tower/gauge/blobs", "201"), 4);
	doc = hull_json(
		"push selwick/gauge localhost:%d/tower/gauge:3 --json", port);
	CHECK_INT(json_integer_value(json_object_get(doc, "already-there")), 3);
	json_decref(doc);
	comes_back(port, "tower/gauge:2");
}

static void the_name_says_where_to(void)
{
	int port = start_empty("new", NULL, "");
	struct result *result;

	pull_gauge();
	CODE(hull("tag selwick/gauge localhost:%d/tower/gauge:2", port), 0);
	CODE(hull("push tower/gauge:2"), 0);
	result = hull("push %.12s", hull("list images -q")->out + 7);
	CODE(result, 2);
	SAYS(result->err, "more than one name");
	CODE(hull("tag selwick/gauge beacon:2"), 0);
	result = hull("push beacon:2");
	CODE(result, 2);
	SAYS(result->err, "does not name a registry");
	CODE(hull("push selwick/lighthouse"), 3);
}

static void blobs_are_taken_over_there(void)
{
	int port = start_open("full", "log", "");
	struct result *result;

	CODE(hull("pull localhost:%d/selwick/gauge", port), 0);
	result = hull("push selwick/gauge localhost:%d/tower/gauge", port);
	CODE(result, 0);
	SAYS(result->out, "0 of 3 layers");
	CHECK_INT(count_lines_with("log", "POST", "201"), 3);
	CODE(hull("remove localhost:%d/selwick/gauge", port), 0);
	CODE(hull("pull localhost:%d/tower/gauge", port), 0);
}

static void large_ones_go_in_pieces(void)
{
	int port = start_empty("new", "log", "");

	pull_gauge();
	CODE(hull("push selwick/gauge localhost:%d/tower/gauge --chunk 100000",
		     port),
		0);
	CHECK(count_lines_with("log", "PATCH", "202") >= 14);
	comes_back(port, "tower/gauge");
}

static void a_broken_upload_is_taken_up(void)
{
	int port = start_empty(
		"new", "log", "--fault drop=50000,times=2,path=/uploads/");

	pull_gauge();
	CODE(hull("push selwick/gauge localhost:%d/tower/gauge --chunk 200000",
		     port),
		0);
	comes_back(port, "tower/gauge");
	port = start_empty(
		"other", NULL, "--fault drop=50000,times=2,path=/uploads/");
	CODE(hull("push tower/gauge localhost:%d/tower/gauge --chunk 0", port),
		0);
	port = start_empty(
		"third", NULL, "--fault status=503,times=2,path=/uploads/");
	CODE(hull("push tower/gauge localhost:%d/tower/gauge", port), 0);
}

static void tokens_may_be_of_one_use(void)
{
	int port;

	put_file("people", "pilot fairwinds\n");
	port = start_empty(
		"new", "log", "--auth bearer --login people --one-use");
	pull_gauge();
	CODE(hull_input("fairwinds\n", 10,
		     "login localhost:%d --user pilot --password @stdin", port),
		0);
	CODE(hull("push selwick/gauge localhost:%d/tower/gauge", port), 0);
	/* No body is sent in vain, once that is known. */
	CHECK_INT(count_lines_with("log", "PUT", " 401"), 0);
	CODE(hull("push selwick/gauge localhost:%d/tower/other --chunk 50000",
		     port),
		0);
	CHECK_INT(count_lines_with("log", "PATCH", " 401"), 0);
	comes_back(port, "tower/gauge");
	CODE(hull("pull localhost:%d/tower/other", port), 0);
	CODE(hull("logout localhost:%d", port), 0);
}

static void a_registry_without_head_will_do(void)
{
	int port = start_empty("new", "log", "--no-head");

	pull_gauge();
	CODE(hull("push selwick/gauge localhost:%d/tower/gauge:2", port), 0);
	SAYS(hull("push selwick/gauge localhost:%d/tower/gauge:3", port)->out,
		"0 of 3 layers");
	CHECK_INT(
		count_lines_with("log", "PUT /v2/tower/gauge/blobs", "201"), 4);
	comes_back(port, "tower/gauge:2");
}

static void refusals_are_told(void)
{
	struct result *result;
	int port;

	pull_gauge();
	result = hull("push selwick/gauge localhost:%d/tower/gauge",
		world_registry_port);
	CODE(result, 6);
	SAYS(result->err, "does not accept uploads");
	put_file("people", "pilot fairwinds\n");
	port = start_empty(
		"closed", NULL, "--login people --auth bearer --open-pull");
	result = hull("push selwick/gauge localhost:%d/tower/gauge", port);
	CODE(result, 6);
	SAYS(result->err, "tidyhull login");
	CODE(hull_input("fairwinds", 9,
		     "login localhost:%d --user pilot --password @stdin", port),
		0);
	CODE(hull("push selwick/gauge localhost:%d/tower/gauge", port), 0);
	result = hull("push selwick/gauge localhost:1/tower/gauge");
	CODE(result, 6);
	/* Nothing is known of what nobody could be asked. */
	CHECK_TEXT(result->out, "");
	CU_ASSERT(!strstr(result->err, "already"));
	CODE(hull("push selwick/gauge localhost:%d/tower/gauge --chunk x",
		     port),
		2);
}

static const CU_TestInfo tests[] = {
	{"an image goes whole and once", an_image_goes_whole_and_once},
	{"the name says where to", the_name_says_where_to},
	{"blobs are taken over there", blobs_are_taken_over_there},
	{"large ones go in pieces", large_ones_go_in_pieces},
	{"a broken upload is taken up", a_broken_upload_is_taken_up},
	{"tokens may be of one use", tokens_may_be_of_one_use},
	{"a registry without HEAD will do", a_registry_without_head_will_do},
	{"refusals are told", refusals_are_told}, CU_TEST_INFO_NULL};

const struct suite suite_push = {"push", tests};
