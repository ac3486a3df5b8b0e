/* What a shell offers for the word that is being typed. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

/* The words behind the program's name; the last one is being typed. */
static const char *offered(const char *words, int code)
{
	struct result *result = hull("complete -- %s", words);

	CODE(result, code);
	CHECK_TEXT(result->err, "");
	return result->out;
}

static void verbs_and_options(void)
{
	CHECK_TEXT(offered("sto", 0),
		"stop\tstop containers: stop signal, grace period, then hard "
		"kill\n");
	SAYS(offered("''", 0), "launch\t");
	CHECK(!strstr(offered("''", 0), "complete"));
	SAYS(offered("run --fe", 0), "--fetch\tpull the image");
	CHECK_TEXT(offered("run --fetch ''", 0), "missing\nalways\nnever\n");
	CHECK_TEXT(offered("run --share home,c", 0), "home,cwd\n");
	CHECK_TEXT(offered("run --limit memory=1G,s", 0), "memory=1G,swap=\n");
	SAYS(offered("list ''", 0), "volumes\n");
	CHECK_TEXT(offered("new v", 0), "volume\n");
	SAYS(offered("help me", 0), "meter\t");
	/* Files, and what is no business of ours. */
	CHECK_TEXT(offered("run --settings ''", 3), "");
	CHECK_TEXT(offered("exec box -- l", 3), "");
	CHECK_TEXT(offered("nosuch ''", 0), "");
}

static void objects_by_their_state(void)
{
	CODE(hull("pull -q selwick/base"), 0);
	CODE(hull("launch -q selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("run --keep selwick/base --name bell --network none -- true"),
		0);
	CODE(hull("new volume boats"), 0);
	CHECK_TEXT(offered("stop b", 0), "box\trunning\n");
	CHECK_TEXT(offered("start b", 0), "bell\tstopped\n");
	CHECK_TEXT(offered("resume ''", 0), "");
	CHECK_TEXT(offered("remove bo", 0), "box\trunning\nboats\tvolume\n");
	CHECK_TEXT(offered("copy bo", 3), "box:\trunning\n");
	CHECK_TEXT(offered("run selwick/base --mount /data=volume:b", 0),
		"/data=volume:boats\tvolume\n");
	SAYS(offered("tag sel", 0), "selwick/base:latest\timage\n");
	CODE(hull("remove --force box bell volume:boats"), 0);
}

/* As bash calls it, which takes words apart at : and =. */
static void bash_offers_them(void)
{
	static const char line[] =
		"bash -c 'PATH=%s:$PATH; TIDYHULL_ROOT=%s; export "
		"TIDYHULL_ROOT; . %s/../completion/tidyhull.bash; compopt() { "
		":; }; COMP_LINE=\"tidyhull %s\"; COMP_POINT=${#COMP_LINE}; "
		"_tidyhull; printf \"<%%s>\" \"${COMPREPLY[@]}\"'";
	struct result *result;

	result = other(line, world_build, world_store, world_build, "laun");
	CHECK_TEXT(result->out, "<launch>");
	result = other(line, world_build, world_store, world_build,
		"run --limit memory=1G,cp");
	CHECK_TEXT(result->out, "<1G,cpu=>");
	CODE(hull("new volume boats"), 0);
	result = other(line, world_build, world_store, world_build,
		"run --mount /data=volume:bo");
	CHECK_TEXT(result->out, "<boats>");
	CODE(other("touch boats.tar"), 0);
	result = other(
		line, world_build, world_store, world_build, "unpack boats.t");
	CHECK_TEXT(result->out, "<boats.tar>");
	CODE(hull("remove volume:boats"), 0);
}

/* Of a repository whose registry is asked, once for a while. */
static void tags_of_registries(void)
{
	int port;

	copy_images("tagged");
	port = start_chandler("tagged", "log", "%s", "");
	write_config(&port, 1);
	SAYS(offered("pull selwick/gauge:", 0), "selwick/gauge:latest\ttag");
	CHECK_TEXT(offered("peek selwick/gauge:l", 0),
		"selwick/gauge:latest\ttag\n");
	CHECK_INT(count_lines_with("log", "/tags/list", ""), 1);
	/* Nobody there, nothing known, no word about it. */
	CHECK_TEXT(offered("pull selwick/lighthouse:", 0), "");
	CHECK_TEXT(offered("pull localhost:1/x:", 0), "");
	/* Verbs that want what is here do not ask. */
	CHECK_TEXT(offered("tag selwick/almanac:", 0), "");
	CHECK_INT(count_lines_with("log", "/tags/list", "almanac"), 0);
}

static const CU_TestInfo tests[] = {{"tags of registries", tags_of_registries},
	{"verbs and options", verbs_and_options},
	{"objects by their state", objects_by_their_state},
	{"bash offers them", bash_offers_them}, CU_TEST_INFO_NULL};

const struct suite suite_complete = {"complete", tests};
