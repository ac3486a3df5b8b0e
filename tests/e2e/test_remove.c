/* remove: containers and images. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

static void what_runs_is_refused_or_stopped_first(void)
{
	struct result *result;

	CODE(hull("launch selwick/gauge --name g --port 80=8080"), 0);
	result = hull("remove g");
	CODE(result, 4);
	SAYS(result->err, "container \"g\" is running");
	SAYS(result->err, "tidyhull stop g");
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	result = hull("remove --force g");
	CODE(result, 0);
	SAYS(result->out, "removed container g");
	/* At once: no waiting for the kernel. */
	result = other("sh -c 'ls -A store/containers store/tmp | grep -v :; "
		       "ip -br link | grep ^th; nft list ruleset'");
	result->out[strspn(result->out, "\n")] = '\0';
	CHECK_TEXT(result->out + strspn(result->out, "\n"), "");
	CODE(hull("remove g"), 3);
}

static void an_image_goes_with_all_that_is_its_own(void)
{
	struct result *result;

	CODE(hull("pull selwick/gauge selwick/almanac selwick/gauge:1"), 0);
	result = hull("remove selwick/gauge:1");
	CODE(result, 0);
	SAYS(result->out, "removed the name");
	result = hull("remove selwick/gauge");
	SAYS(result->out, "removed image");
	/* What the other image needs is still there. */
	CODE(hull("run selwick/almanac --network none --fetch never"), 0);
	CODE(hull("remove selwick/almanac"), 0);
	result = other("sh -c 'find store/trees store/images/blobs -mindepth 2 "
		       "| wc -l'");
	CHECK_TEXT(result->out, "0\n");
	SAYS(hull("list images")->out, "there are no images");
	CODE(hull("remove selwick/almanac"), 3);
}

static void an_image_in_use_is_refused_by_name(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name box"), 0);
	result = hull("remove selwick/base");
	CODE(result, 4);
	SAYS(result->err, "used by 1 container");
	SAYS(result->err, "tidyhull remove box");
	CODE(hull("start box"), 0);
	hull("logs --follow box");
	CODE(hull("remove box selwick/base"), 0);
}

static void each_object_has_its_own_result(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name a"), 0);
	CODE(hull("create selwick/base --name b"), 0);
	result = hull("remove a nosuch b");
	CODE(result, 3);
	SAYS(result->out, "removed container a");
	SAYS(result->out, "removed container b");
	SAYS(result->err, "\"nosuch\"");
}

/* What runs, is to run again or was never started is nobody's litter. */
static void all_means_what_has_ended(void)
{
	static const char ask[] = "sh -c 'echo %s | script -qec \"%s/tidyhull "
				  "remove --all\" /dev/null'";
	struct result *result;

	CODE(hull("pull -q selwick/base"), 0);
	CODE(hull("launch -q selwick/base --name runs --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("create -q selwick/base --name fresh --network none"), 0);
	CODE(hull("launch -q selwick/base --name due --network none --restart "
		  "always,delay=1h -- true"),
		0);
	CODE(hull("run --keep selwick/base --name done --network none -- sh -c "
		  "'echo tide >/tide'"),
		0);
	result = hull("remove --all");
	CODE(result, 2);
	SAYS(result->err, "tidyhull remove --all --yes");
	result = other(ask, "n", world_build);
	SAYS(result->out, "remove it? [y/n]");
	SAYS(result->out, "done");
	SAYS(result->out, " kB");
	SAYS(result->out, "nothing was removed");
	CHECK(!strstr(result->out, "fresh"));
	CODE(hull("show done"), 0);
	result = other(ask, "y", world_build);
	SAYS(result->out, "removed container done");
	SAYS(result->out, "3 others stay");
	CODE(hull("show runs fresh due"), 0);
	/* A kind is no name, and what follows must not go before that is told.
	 */
	result = hull("remove image selwick/base");
	CODE(result, 2);
	SAYS(result->err, "it is: tidyhull remove selwick/base");
	CODE(hull("show selwick/base"), 0);
	CODE(hull("remove --all --force --yes"), 0);
	SAYS(hull("remove --all --yes")->out, "no container that has ended");
}

static const CU_TestInfo tests[] = {
	{"what runs is refused", what_runs_is_refused_or_stopped_first},
	{"an image goes with its own", an_image_goes_with_all_that_is_its_own},
	{"an image in use is refused", an_image_in_use_is_refused_by_name},
	{"each object has its own result", each_object_has_its_own_result},
	{"all means what has ended", all_means_what_has_ended},
	CU_TEST_INFO_NULL};

const struct suite suite_remove = {"remove", tests};
