/* create and start; what is checked before anything is made. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static void created_then_started_then_again(void)
{
	struct result *result;

	result = hull("create selwick/gauge --name gauge-north --port 80=8080 "
		      "--network none --env STATION=north");
	CODE(result, 0);
	SAYS(result->out, "created gauge-north");
	CHECK_TEXT(field("gauge-north", "state"), "created");
	CHECK(fetch("127.0.0.1", 8080, "/") == NULL);
	result = hull("list");
	SAYS(result->out, "1 other is not running");
	for (int i = 0; i < 2; i++) {
		CODE(hull("start gauge-north"), 0);
		CHECK_TEXT(field("gauge-north", "state"), "running");
		SAYS(fetch("127.0.0.1", 8080, "/"), "tide gauge north");
		CODE(hull("start gauge-north"), 0); /* runs already */
		CODE(hull("stop gauge-north"), 0);
	}
	CODE(hull("remove gauge-north"), 0);
}

static void all_problems_are_told_at_once(void)
{
	struct result *result;

	CODE(hull("launch selwick/gauge --name gauge-south --port 80=8080 "
		  "--network none"),
		0);
	result = hull("launch selwick/gauge --name gauge-south --port 80=8080 "
		      "--mount /data=./ledger");
	CODE(result, 4);
	SAYS(result->err, "cannot launch \"gauge-south\": 3 problems");
	SAYS(result->err, "the name \"gauge-south\" is taken");
	SAYS(result->err, "port 8080/tcp is held by container \"gauge-south\"");
	SAYS(result->err, "try --port 80=8081, or --port 80 for a free one");
	SAYS(result->err, "/ledger does not exist");
	SAYS(result->err, "try --mount /data=./ledger,make");
	result = hull("create selwick/gauge --name b --port 80=8080 --plan");
	CODE(result, 4);
	CODE(hull("remove --force gauge-south"), 0);
	result = hull("list --all");
	SAYS(result->out, "there are no containers");
}

static void each_problem_has_its_code(void)
{
	static const struct {
		const char *line;
		int code;
		const char *says;
	} cases[] = {{"create selwick/lighthouse", 3, "no registry has"},
		{"create selwick/charts", 2, "no command was given"},
		{"create selwick/base --name a/b", 2, "is not a valid name"},
		{"create selwick/base --port x", 2, "not a port setting"},
		{"create selwick/base --port 53=5353/sctp", 2,
			"not a port setting"},
		{"create selwick/base --mount /x=/nowhere", 3,
			"does not exist"},
		{"create selwick/base --mount x=/tmp", 2,
			"not a mount setting"},
		{"create selwick/base --network host --port 80", 2,
			"ports cannot be published"},
		{"create selwick/base --fetch never", 3,
			"is not in this store"},
		{"create selwick/base --fetch maybe", 2, "missing, always"},
		{"create selwick/base --capability +SAIL", 2,
			"not a capability change"},
		{"create selwick/base --env NOSUCHVARIABLE", 2,
			"not set in your environment"},
		{"create selwick/base --env K=@file:missing", 3,
			"the file missing does not exist"},
		{"create selwick/base --user captain -- true", 3,
			"not have a user \"captain\""},
		{"create selwick/base --port 80=8080 --port 81=8080", 4,
			"8080/tcp"},
		{"create deadbeef1234", 3, "no registry has"},
		{"create UPPER", 2, "not the name of an image"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct result *result = hull("%s", cases[i].line);

		if (result->code != cases[i].code)
			printf("\n    %s: %s\n", cases[i].line, result->err);
		CODE(result, cases[i].code);
		SAYS(result->err, cases[i].says);
		CHECK_TEXT(result->out, "");
	}
	SAYS(hull("list --all")->out, "there are no containers");
}

static void a_foreign_process_on_the_port_is_named(void)
{
	struct result *result;

	result = hull("create selwick/base --port 80=%d", world_registry_port);
	CODE(result, 4);
	/* Of other users' processes an unprivileged user learns nothing. */
	SAYS(result->err,
		world_user ? "in use by another program"
			   : "held by the process chandler (PID ");
}

static void a_plan_changes_nothing(void)
{
	struct result *result;

	result = hull("launch selwick/gauge --name g --port 80 "
		      "--mount /srv/history=./new,make --plan");
	CODE(result, 0);
	SAYS(result->out, "nothing was changed");
	result = other("ls");
	CHECK(strstr(result->out, "new") == NULL);
	SAYS(hull("list --all")->out, "there are no containers");
	SAYS(hull("list images")->out, "there are no images");
}

static void made_up_names_are_found_again(void)
{
	struct result *result = hull("create selwick/base --quiet");
	char id[32], name[64];

	CODE(result, 0);
	snprintf(id, sizeof(id), "%.12s", result->out);
	snprintf(name, sizeof(name), "%s", field(id, "name"));
	CHECK(strchr(name, '-') != NULL);
	CHECK_TEXT(field(name, "id"), id);
	id[4] = '\0';
	CHECK_TEXT(field(id, "name"), name);
	CODE(hull("remove %s", id), 0);
}

static void what_could_not_be_started_says_why(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name n --network none -- nosuch"), 0);
	result = hull("start n");
	CODE(result, 1);
	SAYS(result->err, "does not have a program \"nosuch\"");
	CHECK_TEXT(field("n", "outcome.kind"), "could-not-start");
	SAYS(hull("why n")->out, "could not be started");
	CODE(hull("remove n"), 0);
	/* A launch that fails leaves nothing at all. */
	result = hull("launch selwick/base --name n -- nosuch");
	CODE(result, 1);
	SAYS(hull("list --all")->out, "there are no containers");
}

static void a_source_that_vanishes_is_told(void)
{
	struct result *result;
	char path[300];

	CODE(hull("create selwick/base --name n --network none "
		  "--mount /x=./folder,make -- ls /x"),
		0);
	snprintf(path, sizeof(path), "%s/folder", world_folder);
	CHECK_INT(rmdir(path), 0);
	result = hull("start n");
	CODE(result, 1);
	SAYS(result->err, "/folder");
	put_file("folder", "now a file");
	CODE(hull("start n"), 0);
	CODE(hull("wait n"), 0);
	CODE(hull("remove n"), 0);
	/* A file cannot cover a folder of the image. */
	result = hull("run selwick/base --mount /etc=./folder -- true");
	CODE(result, 125);
	SAYS(result->err, "/etc");
}

static const CU_TestInfo tests[] = {
	{"created, then started, then again", created_then_started_then_again},
	{"all problems are told at once", all_problems_are_told_at_once},
	{"each problem has its code", each_problem_has_its_code},
	{"a foreign process on the port is named",
		a_foreign_process_on_the_port_is_named},
	{"a plan changes nothing", a_plan_changes_nothing},
	{"made-up names are found again", made_up_names_are_found_again},
	{"what could not be started says why",
		what_could_not_be_started_says_why},
	{"a source that vanishes is told", a_source_that_vanishes_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_create = {"create", tests};
