/* list, show, ports, logs, why. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "e2e/harness.h"

static void list_shows_what_runs_and_counts_the_rest(void)
{
	struct result *result;
	json_t *doc, *one;

	SAYS(hull("list")->out, "there are no containers");
	CODE(hull("launch selwick/gauge --name up --port 80=8080 --network "
		  "none"),
		0);
	CODE(hull("create selwick/base --name never"), 0);
	CODE(hull("run selwick/base --keep --name down -- sh -c 'exit 4'"), 4);
	result = hull("list");
	SAYS(result->out, "up");
	SAYS(result->out, "80 at http://localhost:8080");
	SAYS(result->out, "2 others are not running: tidyhull list --all");
	CHECK(strstr(result->out, "never") == NULL);
	result = hull("list --all");
	SAYS(result->out, "created");
	SAYS(result->out, "stopped: exit code 4");
	doc = hull_json("list --json");
	CHECK_INT(json_array_size(json_object_get(doc, "containers")), 1);
	CHECK_INT(json_integer_value(json_object_get(doc, "not-shown")), 2);
	one = json_array_get(json_object_get(doc, "containers"), 0);
	CHECK_TEXT(json_string_value(json_object_get(one, "state")), "running");
	CHECK(json_is_null(json_object_get(one, "outcome")));
	CHECK_INT(json_array_size(json_object_get(one, "ports")), 2);
	json_decref(doc);
	CHECK_INT(strlen(hull("list --quiet")->out), 13);
	CODE(hull("remove --force up never down"), 0);
}

static void show_knows_both_kinds_and_never_guesses(void)
{
	struct result *result;
	json_t *doc;

	CODE(hull("pull selwick/base"), 0);
	CODE(hull("create selwick/base --name box --env A=1 --port 80=8080"),
		0);
	doc = hull_json("show box selwick/base --json");
	CHECK_INT(json_array_size(json_object_get(doc, "objects")), 2);
	json_decref(doc);
	SAYS(hull("show box")->out, "kind             container");
	SAYS(hull("show selwick/base")->out, "kind             image");
	CHECK_TEXT(field("box", "settings.env.0"), "A=1");
	CHECK_TEXT(field("box", "settings.port.0"), "80=8080");
	result = hull("show box --field settings.anchor");
	CODE(result, 3);
	SAYS(result->err, "does not have the field");
	CODE(hull("show container:selwick/base"), 3);
	CODE(hull("show image:box"), 3);
	/* A container with an image's name: the words choose. */
	CODE(hull("create selwick/base --name gauge"), 0);
	CODE(hull("show container:gauge"), 0);
	CODE(hull("remove box gauge"), 0);
}

static void ports_tell_where_they_lead(void)
{
	struct result *result;
	json_t *doc;

	CODE(hull("launch selwick/ledger --name ledger --port 7070=7071 "
		  "--network none"),
		0);
	result = hull("ports ledger");
	SAYS(result->out, "7070/tcp");
	SAYS(result->out, "0.0.0.0:7071");
	SAYS(result->out, "[::]:7071");
	SAYS(result->out, "localhost:7071");
	CHECK(strstr(result->out, "http://") == NULL);
	doc = hull_json("ports --json");
	CHECK_INT(json_array_size(json_object_get(
			  json_array_get(json_object_get(doc, "containers"), 0),
			  "ports")),
		2);
	json_decref(doc);
	CODE(hull("exec ledger -- booking BOOK north-1 Petrel"), 0);
	SAYS(hull("exec ledger -- booking LIST")->out, "north-1 Petrel");
	CODE(hull("stop ledger"), 0);
	SAYS(hull("ports")->out, "no ports are published");
	CODE(hull("ports nosuch"), 3);
	CODE(hull("remove ledger"), 0);
}

static void logs_of_the_living_and_the_dead(void)
{
	struct result *result;
	json_t *line;

	CODE(hull("run selwick/base --keep --name box --network none -- sh -c "
		  "'echo one; echo two >&2; echo three; printf four'"),
		0);
	result = hull("logs box");
	CHECK_TEXT(result->out, "one\nthree\nfour");
	CHECK_TEXT(result->err, "two\n");
	result = hull("logs box --last 2");
	CHECK(strstr(result->out, "one") == NULL);
	CHECK_TEXT(hull("logs box --last 0")->out, "");
	result = hull("logs box --times");
	SAYS(result->out, "Z  one\n");
	CHECK_TEXT(hull("logs box --until 2026-01-01")->out, "");
	SAYS(hull("logs box --since 10m")->out, "one");
	CHECK_TEXT(hull("logs box --since 2099-01-01")->out, "");
	result = hull("logs box --json-lines --last 1");
	line = json_loads(result->out, 0, NULL);
	CHECK_TEXT(json_string_value(json_object_get(line, "text")), "four");
	json_decref(line);
	line = hull_json("logs box --json --last 2");
	CHECK_INT(json_array_size(json_object_get(line, "lines")), 2);
	json_decref(line);
	line = hull_json("logs box --json --last 0");
	CHECK_INT(json_array_size(json_object_get(line, "lines")), 0);
	json_decref(line);
	CHECK_TEXT(hull("logs box --json-lines --last 0")->out, "");
	line = hull_json("timeline box --json");
	CHECK(json_array_size(json_object_get(line, "events")) > 1);
	json_decref(line);
	/* What goes on has no end that a document needs. */
	result = hull("logs box --json --follow");
	CODE(result, 2);
	SAYS(result->err, "use --json-lines");
	CODE(hull("timeline --json --follow"), 2);
	CODE(hull("remove box"), 0);
}

static bool has_three(void *arg)
{
	return file_holds(arg, "tick 3");
}

static char out_file[] = "out";

static void logs_are_followed_to_the_end(void)
{
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none -- sh -c 'for "
		  "i in 1 2 3; do echo tick $i; sleep 0.1; done; exec sleep "
		  "1000'"),
		0);
	pid = hull_start(out_file, "logs --follow box");
	CHECK(wait_until(has_three, out_file));
	CODE(hull("stop box"), 0);
	CHECK_INT(wait_for(pid), 0);
	CHECK(file_holds(out_file, "tick 1\ntick 2\ntick 3\n"));
	CODE(hull("start box"), 0);
	pid = hull_start(out_file, "logs --follow box");
	CHECK(wait_until(has_three, out_file));
	signal_to(pid, SIGINT);
	CHECK_INT(wait_for(pid), 0);
	CODE(hull("remove --force box"), 0);
}

static void why_says_it_in_words(void)
{
	CODE(hull("run selwick/base --keep --name box --network none -- sh -c "
		  "'echo no water >&2; exit 4'"),
		4);
	SAYS(hull("why box")->out, "with exit code 4");
	SAYS(hull("why box")->out, "(err) no water");
	CODE(hull("remove box"), 0);
	CODE(hull("launch selwick/base --name box --network none"), 0);
	hull("logs --follow box");
	SAYS(hull("why box")->out, "a shell without a terminal");
	CODE(hull("remove box"), 0);
	CODE(hull("create selwick/base --name box"), 0);
	SAYS(hull("why box")->out, "never been started");
	CODE(hull("remove box"), 0);
}

/* A name that is exactly one thing's wins over the beginning of an ID. */
static void whole_names_win(void)
{
	char id[16], name[8];

	CODE(hull("create selwick/base --name first --network none -- true"),
		0);
	snprintf(id, sizeof(id), "%.12s", field("first", "id"));
	/* A volume, a container and an image with names that the ID begins
	 * with. */
	snprintf(name, sizeof(name), "%.4s", id);
	CODE(hull("new volume %s", name), 0);
	SAYS(hull("show %s", name)->out, "volume");
	CODE(hull("remove %s", name), 0);
	CODE(hull("create selwick/base --name %s --network none -- true", name),
		0);
	CHECK(strcmp(field(name, "id"), id) != 0);
	CODE(hull("remove %s", name), 0);
	CHECK_TEXT(field("first", "name"), "first");
	/* Without one the beginning is enough. */
	CHECK_TEXT(field(name, "name"), "first");
	CODE(hull("remove first"), 0);
}

static const CU_TestInfo tests[] = {{"whole names win", whole_names_win},
	{"list shows what runs", list_shows_what_runs_and_counts_the_rest},
	{"show knows both kinds", show_knows_both_kinds_and_never_guesses},
	{"ports tell where they lead", ports_tell_where_they_lead},
	{"logs of the living and the dead", logs_of_the_living_and_the_dead},
	{"logs are followed to the end", logs_are_followed_to_the_end},
	{"why says it in words", why_says_it_in_words}, CU_TEST_INFO_NULL};

const struct suite suite_look = {"look", tests};
