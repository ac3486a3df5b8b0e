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

static const CU_TestInfo tests[] = {
	{"what runs is refused", what_runs_is_refused_or_stopped_first},
	{"an image goes with its own", an_image_goes_with_all_that_is_its_own},
	{"an image in use is refused", an_image_in_use_is_refused_by_name},
	{"each object has its own result", each_object_has_its_own_result},
	CU_TEST_INFO_NULL};

const struct suite suite_remove = {"remove", tests};
