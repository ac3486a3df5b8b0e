/* Images that are here: pulled once, resumed, named, listed, removed, swept. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

static bool arrived(void *arg)
{
	(void)arg;
	return other("sh -c 'ls -s store/partial 2>/dev/null | grep -q "
		     "\"^ *[1-9].*[0-9a-f]$\"'")
		       ->code == 0;
}

static void an_interrupted_pull_goes_on(int number)
{
	char images[600];
	struct result *result;
	int port;
	pid_t pid;

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	port = start_chandler(images, NULL, "--fault stall=200000");
	write_config(&port, 1);
	pid = hull_start("out", "pull selwick/gauge");
	CHECK(wait_until(arrived, NULL));
	signal_to(pid, number);
	CHECK(wait_for(pid) != 0);
	if (number == SIGINT) {
		CHECK(file_holds("out", "interrupted"));
		CHECK(file_holds("out", "the data received so far is kept"));
	}
	SAYS(hull("list images")->out, "there are no images");
	result = hull("sweep");
	SAYS(result->out, "unfinished downloads");
	SAYS(result->out, "nothing was removed");
	port = start_chandler(images, "log", "%s", "");
	write_config(&port, 1);
	CODE(hull("pull selwick/gauge"), 0);
	CHECK(count_lines_with("log", "range=bytes=", " 206 ") > 0);
	CHECK_TEXT(other("find store/partial -mindepth 1")->out, "");
	CODE(hull("run selwick/base -- true"), 0);
}

static void interrupted_by_a_person(void)
{
	an_interrupted_pull_goes_on(SIGINT);
}

static void killed(void)
{
	an_interrupted_pull_goes_on(SIGKILL);
}

static void spoiled_leftovers_are_fetched_anew(void)
{
	copy_images("copy");
	CODE(hull("list"), 0);
	CODE(other("sh -c 'head -c 1000 /dev/zero >store/partial/%s'",
		     layout_layer("copy", "selwick/gauge:latest", 0) + 7),
		0);
	CODE(hull("pull selwick/gauge"), 0);
	CODE(hull("run selwick/gauge --entrypoint '' -- true"), 0);
}

/* Without what is said about them beside them. */
static int count_in(const char *folder)
{
	return atoi(other("sh -c 'ls store/%s | grep -v [.] | wc -l'", folder)
			    ->out);
}

static void nothing_is_fetched_twice(void)
{
	char images[600];
	pid_t pids[5];
	int port;

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	port = start_chandler(images, "log", "%s", "");
	write_config(&port, 1);
	/* They share two layers, and each layer comes once. */
	pids[0] = hull_start("a", "pull selwick/gauge");
	pids[1] = hull_start("b", "pull selwick/ledger");
	pids[2] = hull_start("c", "pull selwick/gauge selwick/almanac");
	pids[3] = hull_start("d", "pull selwick/base:1");
	pids[4] = hull_start("e", "run selwick/almanac -- --days 1");
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		CHECK_INT(wait_for(pids[i]), 0);
	CHECK_INT(atoi(other("sh -c \"grep -o 'blobs/sha256:[0-9a-f]*' log | "
			     "sort | uniq -d | while read b; do stat -c %%s "
			     "%s/blobs/sha256/${b#*:}; done | "
			     "awk '\\$1>1000' | wc -l\"",
			  images)
				  ->out),
		0);
	CHECK_INT(count_in("trees"), 5);
	CHECK_TEXT(other("find store/partial -mindepth 1")->out, "");
}

static void names_of_one_image_stand_together(void)
{
	char text[200];
	struct result *result;
	json_t *doc, *image;

	CODE(hull("pull selwick/gauge selwick/gauge:1"), 0);
	CODE(hull("tag selwick/gauge tower.example/gauge:tested"), 0);
	result = hull("tag selwick/gauge harbour:x");
	SAYS(result->out, "harbour:x now also names");
	result = hull("list images");
	snprintf(text, sizeof(text), "localhost:%d/selwick/gauge  1, latest",
		world_registry_port);
	SAYS(result->out, text);
	SAYS(result->out, "tower.example/gauge");
	doc = hull_json("list images --json");
	CHECK_INT(json_array_size(json_object_get(doc, "images")), 1);
	image = json_array_get(json_object_get(doc, "images"), 0);
	CHECK_INT(json_array_size(json_object_get(image, "names")), 4);
	CHECK(json_integer_value(json_object_get(image, "on-disk")) >
		json_integer_value(json_object_get(image, "size")));
	CHECK_INT(json_integer_value(json_object_get(image, "shared")), 0);
	json_decref(doc);
	CODE(hull("run harbour:x --entrypoint '' --fetch never -- true"), 0);
	/* A name moves, and that is told. */
	CODE(hull("pull selwick/ledger"), 0);
	result = hull("tag selwick/ledger harbour:x");
	SAYS(result->out, "it named");
	CODE(hull("tag selwick/ledger Harbour"), 2);
	CODE(hull("tag selwick/lighthouse harbour"), 3);
}

static void a_tree_shows_what_is_shared(void)
{
	struct result *result;
	json_t *doc, *layer;

	CODE(hull("pull selwick/gauge selwick/ledger"), 0);
	result = hull("show selwick/gauge");
	SAYS(result->out, "shared with");
	SAYS(result->out, "/selwick/ledger:latest");
	doc = hull_json("show selwick/gauge --json");
	layer = json_array_get(
		json_object_get(
			json_array_get(json_object_get(doc, "objects"), 0),
			"layers"),
		2);
	CHECK_INT(json_array_size(json_object_get(layer, "shared-with")), 0);
	CHECK(json_integer_value(json_object_get(layer, "unpacked")) > 0);
	json_decref(doc);
}

static void removal_takes_what_nobody_needs(void)
{
	struct result *result;

	CODE(hull("pull selwick/gauge selwick/gauge:1 selwick/ledger"), 0);
	CHECK_INT(count_in("trees"), 4);
	result = hull("remove selwick/gauge:1");
	SAYS(result->out, "removed the name");
	CHECK_INT(count_in("trees"), 4);
	CODE(hull("create selwick/gauge --name box"), 0);
	result = hull("remove selwick/gauge");
	CODE(result, 4);
	SAYS(result->err, "is used by 1 container");
	SAYS(result->err, "tidyhull remove box");
	CODE(hull("remove box selwick/gauge"), 0);
	CHECK_INT(count_in("trees"), 3);
	CHECK_INT(count_in("images/blobs/sha256"), 5);
	CODE(hull("remove selwick/ledger"), 0);
	CHECK_TEXT(other("ls store/trees")->out, "");
	CHECK_INT(count_in("images/blobs/sha256"), 0);
	SAYS(hull("sweep")->out, "there is nothing to remove");
}

static void a_sweep_says_first(void)
{
	struct result *result;
	json_t *doc;

	CODE(hull("pull selwick/gauge selwick/ledger"), 0);
	CODE(hull("create selwick/gauge --name box"), 0);
	/* Both lose their names to a third; one is used. */
	CODE(hull("pull selwick/base"), 0);
	CODE(hull("tag selwick/base localhost:%d/selwick/gauge",
		     world_registry_port),
		0);
	CODE(hull("tag selwick/base localhost:%d/selwick/ledger",
		     world_registry_port),
		0);
	CODE(other("sh -c 'echo x >store/images/blobs/sha256/%064d; "
		   "mkdir store/trees/%064d; echo x >store/partial/%064d'",
		     1, 2, 3),
		0);
	SAYS(hull("list images")->out, "(no name)");
	result = hull("sweep");
	CODE(result, 0);
	SAYS(result->out, "untagged images           1");
	SAYS(result->out, "layers                    1");
	SAYS(result->out, "blobs                     1");
	SAYS(result->out, "unfinished downloads      1");
	SAYS(result->out, "nothing was removed");
	SAYS(hull("sweep --older-than 1h --yes")->out,
		"there is nothing to remove");
	CODE(hull("sweep --only ropes"), 2);
	doc = hull_json("sweep --json");
	CHECK(json_is_false(json_object_get(doc, "removed")));
	json_decref(doc);
	result = hull("sweep --yes");
	CODE(result, 0);
	SAYS(result->out, "freed ");
	SAYS(hull("sweep")->out, "there is nothing to remove");
	/* What is used is still whole. */
	CODE(hull("start box"), 0);
	CODE(hull("stop box"), 0);
	CODE(hull("remove box"), 0);
}

/* Blobs and downloads that nobody needs are of images. */
static void a_sweep_of_one_kind_leaves_the_rest(void)
{
	CODE(hull("list"), 0);
	put_file("store/partial/x", "x");
	CODE(other("sh -c 'echo x >store/images/blobs/sha256/%064d'", 1), 0);
	SAYS(hull("sweep --only containers --yes")->out,
		"there is nothing to remove");
	CODE(hull("run -q --keep selwick/base --name box -- true"), 0);
	SAYS(hull("sweep --only containers --yes")->out, "freed ");
	CHECK_INT(count_in("partial"), 1);
	CODE(other("test -e store/images/blobs/sha256/%064d", 1), 0);
	CODE(hull("sweep --yes"), 0);
	CHECK_INT(count_in("partial"), 0);
	CHECK(other("test -e store/images/blobs/sha256/%064d", 1)->code != 0);
}

/* At any moment: what is said to stay is there, and the next one takes it. */
static void an_interrupted_sweep_goes_on(void)
{
	static const useconds_t moments[] = {10000, 20000, 40000, 80000};
	int told = 0;

	CODE(hull("list"), 0);
	for (size_t i = 0; i < COUNT_OF(moments); i++) {
		pid_t pid;
		int code;

		CODE(other("sh -c 'cd store/trees && for n in $(seq 60); do "
			   "mkdir $(printf %%064d $n) && cd $(printf %%064d "
			   "$n) && touch $(seq 500) && cd ..; done'"),
			0);
		pid = hull_start("said", "sweep --yes");
		usleep(moments[i]);
		kill(pid, SIGINT);
		code = wait_for(pid);
		/* Before it has begun, there is nobody to say it. */
		CHECK(code == 0 || code == 1 || code == 128 + SIGINT);
		if (code == 1) {
			CHECK(file_holds("said",
				"the removal was "
				"interrupted"));
			CHECK(file_holds("said", "tidyhull sweep"));
			CHECK(count_in("trees") > 0);
			told++;
		}
		CODE(hull("sweep --yes"), 0);
		CHECK_INT(count_in("trees"), 0);
		CHECK_INT(count_in("tmp"), 0);
	}
	CHECK(told > 0);
}

static void a_sweep_asks(void)
{
	struct result *result;

	CODE(hull("list"), 0);
	put_file("store/partial/x", "x");
	result = other("sh -c 'echo n | script -qec \"%s/tidyhull sweep\" "
		       "/dev/null'",
		world_build);
	SAYS(result->out, "remove all this (4.1 kB)? [y/n]");
	CHECK(access("store/partial/x", F_OK) != 0);
	CHECK_INT(count_in("partial"), 1);
	other("sh -c 'echo y | script -qec \"%s/tidyhull sweep\" /dev/null'",
		world_build);
	CHECK_INT(count_in("partial"), 0);
}

static void a_search_asks_which(void)
{
	char images[600];
	struct result *result;
	int ports[2];

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	ports[0] = world_registry_port;
	ports[1] = start_registry(images);
	write_config(ports, 2);
	result = other("sh -c 'echo 2 | script -qec \"%s/tidyhull pull "
		       "selwick/gauge\" /dev/null'",
		world_build);
	SAYS(result->out, "which one?");
	SAYS(hull("list images -q")->out, "sha256:");
	/* From then on the image that is here says it. */
	CODE(hull("pull selwick/gauge"), 0);
	SAYS(hull("pull selwick/gauge")->out, "selwick/gauge:latest: 0 of 3");
	/* A script is given the choice in an error. */
	result = hull("launch selwick/ledger --name box");
	CODE(result, 2);
	SAYS(result->err, "2 registries have selwick/ledger:latest");
}

/* However it was asked for. */
static void containers_show_the_name(void)
{
	struct result *result;
	char digest[80];

	CODE(hull("pull -q selwick/base"), 0);
	snprintf(digest, sizeof(digest), "%.64s", hull("list images -q")->out);
	CODE(hull("create selwick/base:latest --name one --network none"), 0);
	CODE(hull("create %.12s --name two --network none", digest + 7), 0);
	CODE(hull("create %.71s --name three --network none", digest), 0);
	result = hull("list --all");
	CHECK(!strstr(result->out, ":latest"));
	CHECK(!strstr(result->out, "sha256"));
	for (const char *at = strstr(result->out, "one"); at;
		at = strchr(at + 1, '\n')) {
		if (at[1] && *at == '\n')
			CHECK(strstr(at, "selwick/base") != NULL);
	}
	CODE(hull("remove one two three"), 0);
}

static void lists_as_one_likes_them(void)
{
	struct result *result;

	CODE(hull("pull -q selwick/base selwick/gauge"), 0);
	CODE(hull("create selwick/gauge --name two --network none"), 0);
	CODE(hull("create selwick/base --name one --network none"), 0);
	CHECK_TEXT(hull("list --all --columns container --sort container")->out,
		"container\none\ntwo\n");
	CHECK_TEXT(
		hull("list --all --columns container --sort -container")->out,
		"container\ntwo\none\n");
	SAYS(hull("list --all --columns state,container")->out,
		"state    container\ncreated  two\n");
	/* Sizes are compared as such: 4.4 MB is more than 920 kB. */
	result = hull("list images --columns image,on-disk --sort -on");
	CODE(result, 0);
	CHECK(strstr(result->out, "gauge") < strstr(result->out, "base"));
	result = hull("list --all --sort size");
	CODE(result, 2);
	SAYS(result->err, "there is no column \"size\"");
	SAYS(result->err, "use container, state, since");
	CODE(hull("list --watch"), 2);
	CODE(hull("remove one two"), 0);
}

static const CU_TestInfo tests[] = {
	{"containers show the name", containers_show_the_name},
	{"lists as one likes them", lists_as_one_likes_them},
	{"interrupted by a person", interrupted_by_a_person},
	{"killed", killed},
	{"spoiled leftovers are fetched anew",
		spoiled_leftovers_are_fetched_anew},
	{"nothing is fetched twice", nothing_is_fetched_twice},
	{"names of one image stand together",
		names_of_one_image_stand_together},
	{"a tree shows what is shared", a_tree_shows_what_is_shared},
	{"removal takes what nobody needs", removal_takes_what_nobody_needs},
	{"a sweep says first", a_sweep_says_first},
	{"a sweep of one kind leaves the rest",
		a_sweep_of_one_kind_leaves_the_rest},
	{"an interrupted sweep goes on", an_interrupted_sweep_goes_on},
	{"a sweep asks", a_sweep_asks},
	{"a search asks which", a_search_asks_which}, CU_TEST_INFO_NULL};

const struct suite suite_images = {"images", tests};
