/* kill -9 at random moments: the store repairs itself, no half image is ever
 * listed, and nothing is left over in the end. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "e2e/harness.h"

#define KILLS 200
#define MANY 6
#define ROUNDS 25

static const char *const lines[] = {"pull selwick/gauge", "pull selwick/ledger",
	"tag selwick/base harbour:x", "remove selwick/gauge",
	"pull selwick/base", "sweep --yes",
	"pull selwick/almanac selwick/gauge", "remove selwick/ledger",
	"tag selwick/gauge harbour:y", "remove harbour:x selwick/base",
	"pack selwick/gauge x.tar --yes", "list images",
	"create selwick/ledger --name box", "remove box", "sweep --yes"};

/* Every image that is listed is whole: its blobs are right, its trees there,
 * and index.json lists the same. */
static void check_images(void)
{
	struct result *result = hull("list images --json");
	json_t *doc = json_loads(result->out, 0, NULL), *image, *layer;
	size_t i, j;

	CODE(result, 0);
	json_array_foreach(json_object_get(doc, "images"), i, image)
	{
		const char *digest =
			json_string_value(json_object_get(image, "digest"));
		json_t *whole = hull_json("show %s --json", digest);
		json_t *layers = json_object_get(
			json_array_get(json_object_get(whole, "objects"), 0),
			"layers");

		json_array_foreach(layers, j, layer)
		{
			const char *blob = json_string_value(
				json_object_get(layer, "digest"));
			const char *tree = json_string_value(
				json_object_get(layer, "diff-id"));
			char path[400];

			result = other("sha256sum store/images/blobs/sha256/%s",
				blob + 7);
			CHECK(strncmp(result->out, blob + 7, 64) == 0);
			snprintf(path, sizeof(path), "%s/trees/%s", world_store,
				tree + 7);
			CHECK_INT(access(path, F_OK), 0);
		}
		json_decref(whole);
	}
	result = other("sh -c 'grep -c \"\\\"digest\\\"\" "
		       "store/images/index.json'");
	CHECK(atoi(result->out) >=
		(int)json_array_size(json_object_get(doc, "images")));
	json_decref(doc);
}

static const char *left_over(void)
{
	return other("find store/trees store/partial store/tmp "
		     "store/images/blobs/sha256 -mindepth 1")
		->out;
}

static bool nothing_lies_about(void *arg)
{
	(void)arg;
	return *left_over() == '\0';
}

static void two_hundred_kills_do_no_harm(void)
{
	unsigned int seed = 7;
	int killed = 0;

	for (int i = 0; killed < KILLS && i < 10 * KILLS; i++) {
		const char *line =
			lines[(unsigned int)rand_r(&seed) % COUNT_OF(lines)];
		struct timespec moment = {.tv_nsec = rand_r(&seed) % 30000000};
		pid_t pid = hull_start("out", "%s", line);

		nanosleep(&moment, NULL);
		signal_to(pid, SIGKILL);
		killed += wait_for(pid) == 128 + SIGKILL;
		if (i % 20 == 0)
			check_images();
	}
	CHECK_INT(killed, KILLS);
	check_images();
	/* A later pull ends well, and a sweep leaves no orphan. */
	CODE(hull("pull selwick/gauge selwick/ledger selwick/base"), 0);
	check_images();
	CODE(hull("run selwick/gauge --entrypoint '' -- true"), 0);
	hull("remove box");
	CODE(hull("remove selwick/gauge selwick/ledger selwick/base"), 0);
	hull("remove selwick/almanac");
	hull("remove harbour:x");
	hull("remove harbour:y");
	CODE(hull("sweep --yes"), 0);
	SAYS(hull("list images")->out, "there are no images");
	SAYS(hull("sweep")->out, "there is nothing to remove");
	/* A keeper cleans up behind the command that it has answered. */
	if (!wait_until(nothing_lies_about, NULL)) {
		printf("\n    left: %s\n", left_over());
		CU_FAIL("something was left");
	}
}

/* One of several at once: its own random commands, which may be refused but
 * must not fail in any other way. Gives the number that did. */
static int one_of_many(unsigned int seed)
{
	int wrong = 0;

	for (int i = 0; i < ROUNDS; i++) {
		const char *line =
			lines[(unsigned int)rand_r(&seed) % COUNT_OF(lines)];
		struct result *result = hull("%s --quiet", line);

		/* Gone already, in use, or not there at all. */
		if (result->code != 0 && result->code != 3 &&
			result->code != 4) {
			printf("\n    %s: %d: %s\n", line, result->code,
				result->err);
			wrong++;
		}
	}
	return wrong;
}

static void many_at_once_do_no_harm(void)
{
	pid_t pids[MANY];

	CODE(hull("list"), 0);
	for (unsigned int i = 0; i < MANY; i++) {
		fflush(NULL);
		pids[i] = fork();
		if (pids[i] == 0)
			_exit(one_of_many(100 + i));
	}
	for (int i = 0; i < MANY; i++)
		CHECK_INT(wait_for(pids[i]), 0);
	check_images();
	CODE(hull("pull selwick/gauge selwick/ledger selwick/base"), 0);
	check_images();
	CODE(hull("run selwick/ledger -- /bin/true"), 0);
	hull("remove box");
}

static const CU_TestInfo tests[] = {
	{"two hundred kills do no harm", two_hundred_kills_do_no_harm},
	{"many at once do no harm", many_at_once_do_no_harm},
	CU_TEST_INFO_NULL};

const struct suite suite_endurance = {"endurance", tests};
