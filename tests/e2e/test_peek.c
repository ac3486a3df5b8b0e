/* find and peek: before anything is downloaded. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

static void a_part_of_the_name_finds(void)
{
	struct result *result = hull("find gau");
	json_t *doc;

	CODE(result, 0);
	SAYS(result->out, "/selwick/gauge");
	SAYS(result->out, "1, latest");
	CHECK(strstr(result->out, "almanac") == NULL);
	/* A slip of the fingers. */
	SAYS(hull("find guage")->out, "/selwick/gauge");
	SAYS(hull("find leger")->out, "/selwick/ledger");
	SAYS(hull("find selwick -q")->out, "/selwick/base\n");
	result = hull("find lighthouse");
	CODE(result, 3);
	SAYS(result->err, "no image matches \"lighthouse\"");
	doc = hull_json("find almanac --json");
	CHECK_INT(json_array_size(json_object_get(doc, "found")), 1);
	json_decref(doc);
}

static void pages_are_read_to_the_end(void)
{
	char images[600];
	int port;

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	port = start_chandler(images, "log", "--page 1");
	write_config(&port, 1);
	SAYS(hull("find ledger")->out, "1, latest");
	CHECK_TEXT(hull("peek selwick/base --tags")->out, "1\nlatest\n");
	CHECK_INT(count_lines_with("log", "_catalog", "200"), 5);
}

static void registries_that_do_not_tell(void)
{
	char images[600];
	struct result *result;
	int ports[2];

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	ports[0] = start_chandler(images, NULL, "--no-catalogue");
	ports[1] = 1;
	write_config(ports, 2);
	/* The exact name can be asked for; and who is silent is told. */
	result = hull("find selwick/gauge");
	CODE(result, 0);
	SAYS(result->out, "selwick/gauge  1, latest");
	SAYS(result->err, "note: localhost:1: ");
	result = hull("find gauge");
	CODE(result, 3);
	SAYS(result->err, "it does not list its images");
	CODE(hull("find localhost:%d/selwick/gauge", ports[0]), 0);
}

static void a_look_downloads_nothing(void)
{
	char images[600];
	struct result *result;
	json_t *doc, *one;
	int port;

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	port = start_chandler(images, "log", "%s", "");
	write_config(&port, 1);
	result = hull("peek selwick/gauge");
	CODE(result, 0);
	SAYS(result->out, "platforms  linux/amd64");
	SAYS(result->out, "entrypoint /usr/bin/gauge");
	SAYS(result->out, "STATION=nameless");
	SAYS(result->out, "80/tcp");
	SAYS(result->out, "in 3 layers");
	doc = hull_json("peek selwick/gauge --json");
	one = json_array_get(json_object_get(doc, "images"), 0);
	CHECK_INT(json_array_size(json_object_get(one, "layers")), 3);
	json_decref(doc);
	/* The config alone was read, each time. */
	CHECK_INT(count_lines_with("log", "/blobs/", ""), 2);
	SAYS(hull("list images")->out, "there are no images");
	CODE(hull("peek selwick/lighthouse"), 3);
	CODE(hull("peek selwick/gauge:99"), 3);
	/* It needs neither a store nor root. */
	CODE(hull_as_user("peek selwick/gauge"), 0);
	CODE(hull_as_user("find gauge"), 0);
}

static void platforms_are_told_and_chosen(void)
{
	struct result *result;
	int port;

	copy_images("many");
	layout_add_index(
		"many", "selwick/gauge:latest", "selwick/gauge:many", false);
	port = start_chandler("many", NULL, "%s", "");
	write_config(&port, 1);
	result = hull("peek selwick/gauge:many");
	CODE(result, 0);
	SAYS(result->out, "linux/arm/v7");
	SAYS(result->out, "(this host)");
	result = hull("pull selwick/gauge:many");
	CODE(result, 0);
	result = hull("pull selwick/gauge:many --platform linux/s390x");
	CODE(result, 3);
	SAYS(result->err, "not available for linux/s390x; it is for ");
	SAYS(result->err, "linux/arm/v7");
	CODE(hull("pull selwick/gauge:many --platform linux"), 2);
	CODE(hull("pull selwick/gauge:many --platform linux/arm/v7"), 0);
	SAYS(hull("list images")->out, "linux/arm/v7");
	result = hull("peek selwick/gauge:many --platform linux/arm/v7");
	SAYS(result->out, "linux/arm/v7 (this host)");
}

static void indexes_may_lie_in_indexes(void)
{
	struct result *result;
	char digest[100];
	json_t *doc;
	int port;

	copy_images("nested");
	layout_add_index(
		"nested", "selwick/gauge:latest", "selwick/gauge:nested", true);
	port = start_chandler("nested", NULL, "%s", "");
	write_config(&port, 1);
	CODE(hull("pull selwick/gauge:nested"), 0);
	/* It is found by the digest of the index as well. */
	doc = hull_json("peek selwick/gauge:nested --json");
	snprintf(digest, sizeof(digest), "%s",
		json_string_value(json_object_get(
			json_array_get(json_object_get(doc, "images"), 0),
			"digest")));
	json_decref(doc);
	result = hull("show selwick/gauge@%s", digest);
	CODE(result, 0);
	CODE(hull("run --fetch never selwick/gauge@%s --entrypoint '' -- true",
		     digest),
		0);
	CODE(hull("show %.12s", digest + 7), 0);
}

static void one_for_another_platform_is_not_taken_by_itself(void)
{
	struct result *result;
	int port;

	copy_images("other");
	layout_add_platform("other", "selwick/gauge:latest",
		"selwick/gauge:arm", "arm", "v7");
	port = start_chandler("other", NULL, "%s", "");
	write_config(&port, 1);
	result = hull("pull selwick/gauge:arm");
	CODE(result, 3);
	SAYS(result->err, "is for linux/arm/v7, not for linux/");
	SAYS(result->err, "--platform linux/arm/v7");
	result = hull("peek selwick/gauge:arm");
	CODE(result, 0);
	SAYS(result->err, "note: ");
	CODE(hull("pull selwick/gauge:arm --platform linux/arm/v7"), 0);
}

static const CU_TestInfo tests[] = {
	{"part of the name finds", a_part_of_the_name_finds},
	{"pages are read to the end", pages_are_read_to_the_end},
	{"registries that do not tell", registries_that_do_not_tell},
	{"a look downloads nothing", a_look_downloads_nothing},
	{"platforms are told and chosen", platforms_are_told_and_chosen},
	{"indexes may lie in indexes", indexes_may_lie_in_indexes},
	{"one for another platform",
		one_for_another_platform_is_not_taken_by_itself},
	CU_TEST_INFO_NULL};

const struct suite suite_peek = {"peek", tests};
