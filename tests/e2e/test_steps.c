/* Death, and refusal, at each call of a command or a keeper that changes
 * anything: what it was about is there as a whole, or not at all. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

/* All calls in turn take minutes: one of so many, unless HULL_EVERY is set. */
static long stride(long usual)
{
	const char *every = getenv("HULL_EVERY");

	return every ? atol(every) : usual;
}

static bool there(const char *path)
{
	return as_root("test -e %s/%s", world_store, path)->code == 0;
}

/* Any command that works mends what a dead one left. */
static void mend(void)
{
	CODE(hull("stop --all -q"), 0);
}

static bool has_nothing(void *arg)
{
	mend();
	return as_root("sh -c 'ls -A %s/%s 2>/dev/null'", world_store,
		       (const char *)arg)
		       ->out[0] == '\0';
}

/* Nothing is in the store's folder. A keeper that has told the end of its
 * container may still be at work there, and keep others from mending. */
static bool is_empty(const char *folder)
{
	char copy[64];

	snprintf(copy, sizeof(copy), "%s", folder);
	if (wait_until(has_nothing, copy))
		return true;
	printf("\n    left in %s: %s\n", folder,
		as_root("ls -A %s/%s", world_store, folder)->out);
	return false;
}

static void look_at_created(const struct step *step, int code)
{
	bool made = hull("show box")->code == 0;

	if (step->error)
		CHECK_INT(made, code == 0);
	if (!made) {
		CHECK(is_empty("containers"));
		CHECK(is_empty("volumes"));
		CHECK_TEXT(hull("list volumes -q")->out, "");
		CHECK_TEXT(hull("list networks -q")->out, "");
		CHECK(is_empty("tmp"));
		return;
	}
	CHECK_TEXT(hull("list networks -q")->out, "berths\n");
	CHECK_TEXT(hull("list volumes -q")->out, "ledger\n");
	CODE(hull("remove volume:ledger"), 4);
	CODE(hull("remove network:berths"), 4);
	CHECK(there("volumes/ledger/data/passwd"));
	CODE(hull("start --attach box"), 0);
	CODE(hull("remove box volume:ledger network:berths"), 0);
	CHECK(is_empty("containers"));
	CHECK(is_empty("volumes"));
	CHECK(is_empty("tmp"));
}

static void create_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	int code = 0;

	CODE(hull("pull selwick/base"), 0);
	while (hull_step(&step, &code,
		"create selwick/base --name box --network berths --mount "
		"/etc=volume:ledger -- grep -q root /etc/passwd")) {
		int before = CU_get_number_of_failures();

		mend();
		look_at_created(&step, code);
		if (CU_get_number_of_failures() > (unsigned int)before)
			printf("    at call %ld\n", step.number);
		step.number += stride(4);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 40);
	CODE(hull("remove box volume:ledger network:berths"), 0);
}

static void a_killed_create_is_whole_or_nothing(void)
{
	create_in_steps(0);
}

static void a_refused_create_leaves_nothing(void)
{
	create_in_steps(ENOSPC);
}

static void new_volume_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	int code = 0;

	while (hull_step(&step, &code, "new volume ledger")) {
		bool known;

		mend();
		known = *hull("list volumes -q")->out != '\0';
		if (error)
			CHECK_INT(known, code == 0);
		CHECK_INT(there("volumes/ledger/data"), known);
		CHECK_INT(there("volumes/ledger"), known);
		CHECK(is_empty("tmp"));
		if (known)
			CODE(hull("remove volume:ledger"), 0);
		step.number += stride(2);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 5);
	CODE(hull("remove volume:ledger"), 0);
}

static void a_new_volume_is_whole_or_nothing(void)
{
	new_volume_in_steps(0);
	new_volume_in_steps(EIO);
}

/* Its files are all there, or the volume is gone. */
static void remove_volume_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	bool hit = true;
	int code = 0;

	while (hit) {
		bool known;

		CODE(hull("run --discard selwick/base --network none --mount "
			  "/data=volume:ledger -- sh -c 'mkdir -p /data/pages; "
			  "echo 1 > /data/pages/one; echo 2 > /data/two'"),
			0);
		hit = hull_step(&step, &code, "remove volume:ledger");
		CHECK(is_empty("tmp"));
		known = *hull("list volumes -q")->out != '\0';
		if (error && code == 0)
			CHECK(!known);
		CHECK_INT(there("volumes/ledger"), known);
		CHECK_INT(there("volumes/ledger/data/pages/one"), known);
		CHECK_INT(there("volumes/ledger/data/two"), known);
		if (hit)
			step.number += stride(2);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 5);
}

static void a_removed_volume_is_whole_or_gone(void)
{
	remove_volume_in_steps(0);
	remove_volume_in_steps(EIO);
}

static bool has_left_the_host(void *arg)
{
	(void)arg;
	return as_root("sh -c 'ip -o link | grep -v \" lo:\"'")->out[0] ==
		'\0' &&
		as_root("nft list ruleset")->out[0] == '\0';
}

/* What a container has of the host; a living keeper takes it away a moment
 * after it has told the end. */
static void nothing_of_the_host(void)
{
	wait_until(has_left_the_host, NULL);
	CHECK_TEXT(as_root("sh -c 'ip -o link | grep -v \" lo:\"'")->out, "");
	CHECK_TEXT(as_root("nft list ruleset")->out, "");
	CHECK_TEXT(
		as_root("sh -c 'grep -c tidyhull-overlay /proc/mounts'")->out,
		"0\n");
}

/* A launch that fails takes its container away at once. */
static void a_keeper_killed_in_a_launch_leaves_nothing(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	int code = 0;

	CODE(hull("pull selwick/gauge"), 0);
	while (hull_step(&step, &code,
		"launch selwick/gauge --name box --network berths --port "
		"80=8080")) {
		unsigned int before = CU_get_number_of_failures();

		CODE(hull(code == 0 ? "remove --force box" : "show box"),
			code == 0 ? 0 : 3);
		nothing_of_the_host();
		CHECK(is_empty("containers"));
		if (CU_get_number_of_failures() > before)
			printf("    at call %ld\n", step.number);
		step.number += stride(8);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 40);
	CODE(hull("remove --force box"), 0);
	nothing_of_the_host();
}

/* Another command's look at it is enough, and so is its removal; and it can be
 * started again at once, in each case with its port. */
static void a_keeper_killed_in_a_start_leaves_nothing(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	const char *page;
	int code = 0, told = 0;

	CODE(hull("pull selwick/gauge"), 0);
	CODE(hull("create selwick/gauge --name box --network berths --port "
		  "80=8080"),
		0);
	while (hull_step(&step, &code, "start box")) {
		unsigned int before = CU_get_number_of_failures();

		if (step.number % 3 == 0) {
			SAYS(hull("list --all")->out, "box");
			if (strcmp(field("box", "state"), "running") != 0)
				nothing_of_the_host();
			told += strstr(hull("why box")->out,
					"its keeper was killed during the "
					"start") != NULL;
		}
		if (step.number % 3 == 2) {
			struct result *result = hull("start box");

			if (result->code)
				printf("    %s", result->err);
			CODE(result, 0);
			page = fetch("127.0.0.1", 8080, "/health");
			CHECK(page != NULL);
		}
		CODE(hull("remove --force box"), 0);
		nothing_of_the_host();
		CHECK(is_empty("containers"));
		if (CU_get_number_of_failures() > before)
			printf("    at call %ld\n", step.number);
		CODE(hull("create selwick/gauge --name box --network berths "
			  "--port 80=8080"),
			0);
		step.number += stride(4);
	}
	CHECK_INT(code, 0);
	CHECK(told > 0);
	CHECK(step.number > 40);
	CODE(hull("remove --force box"), 0);
	nothing_of_the_host();
}

/* From the first call to the last: one that is not kept is gone at the end,
 * whenever its keeper died, with all that it had. */
static void a_keeper_killed_in_a_run_leaves_nothing(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	int code = 0;

	CODE(hull("pull selwick/base"), 0);
	while (hull_step(&step, &code,
		"run selwick/base --network berths --port 80=8080 -- true")) {
		unsigned int before = CU_get_number_of_failures();

		/* Its keeper, or what was to become the program. */
		CHECK(code == 0 || code == 125 || code == 137);
		mend();
		SAYS(hull("list --all")->out, "there are no containers");
		nothing_of_the_host();
		CHECK(is_empty("containers"));
		CHECK(is_empty("tmp"));
		if (CU_get_number_of_failures() > before)
			printf("    at call %ld\n", step.number);
		step.number += stride(8);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 60);
	nothing_of_the_host();
}

/* ---- images made here ---- */

/* Containers of a build go with the next look, once their keepers have. */
static bool no_containers(void *arg)
{
	(void)arg;
	return strstr(hull("list --all")->out, "there are no containers") !=
		NULL;
}

static void look_at_built(int code)
{
	bool made = hull("show selwick/note")->code == 0;

	CHECK(wait_until(no_containers, NULL));
	CHECK(is_empty("containers"));
	CHECK(is_empty("tmp"));
	CHECK(is_empty("builds"));
	if (code == 0)
		CHECK(made);
	if (!made)
		CODE(hull("build note.yaml -q"), 0);
	CHECK_TEXT(hull("run selwick/note --network none")->out, "tide\nlow\n");
	CODE(hull("remove selwick/note"), 0);
	CODE(hull("sweep --yes -q"), 0);
	SAYS(hull("sweep")->out, "there is nothing to remove");
}

static void build_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	int code = 0;

	put_file("note", "tide\n");
	put_file("note.yaml",
		"image: selwick/note\nfrom: selwick/base\nsteps:\n"
		"  - put: {/note: ./note}\n"
		"  - do: echo low >> /note\n    network: none\n"
		"settings: {command: [cat, /note]}\n");
	CODE(hull("pull selwick/base"), 0);
	while (hull_step(&step, &code, "build note.yaml")) {
		unsigned int before = CU_get_number_of_failures();

		look_at_built(code);
		if (CU_get_number_of_failures() > before)
			printf("    at call %ld\n", step.number);
		step.number += stride(9);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 80);
	look_at_built(0);
}

static void a_killed_build_is_whole_or_nothing(void)
{
	build_in_steps(0);
}

static void a_refused_build_leaves_nothing(void)
{
	build_in_steps(ENOSPC);
}

/* The keeper hears of a dead command in its own time. */
static bool is_running(void *arg)
{
	(void)arg;
	return strcmp(field("box", "state"), "running") == 0;
}

static void capture_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	int code = 0;

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("exec box -- sh -c 'echo tide > /note'"), 0);
	while (hull_step(&step, &code, "capture box selwick/note")) {
		unsigned int before = CU_get_number_of_failures();
		bool made = hull("show selwick/note")->code == 0;

		CHECK(wait_until(is_running, NULL));
		/* Without a stop, as is_empty would do. */
		CHECK_TEXT(
			as_root("sh -c 'ls -A %s/tmp'", world_store)->out, "");
		if (error)
			CHECK_INT(made, code == 0);
		if (made) {
			CHECK_TEXT(hull("run selwick/note --network none -- "
					"cat /note")
					   ->out,
				"tide\n");
			CODE(hull("remove selwick/note"), 0);
		}
		CODE(hull("sweep --yes -q"), 0);
		SAYS(hull("sweep")->out, "there is nothing to remove");
		if (CU_get_number_of_failures() > before)
			printf("    at call %ld\n", step.number);
		step.number += stride(4);
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 20);
	CODE(hull("remove --force box"), 0);
}

static void a_killed_capture_is_whole_or_nothing(void)
{
	capture_in_steps(0);
}

static void a_refused_capture_leaves_nothing(void)
{
	capture_in_steps(ENOSPC);
}

static const CU_TestInfo tests[] = {
	{"a killed create is whole or nothing",
		a_killed_create_is_whole_or_nothing},
	{"a refused create leaves nothing", a_refused_create_leaves_nothing},
	{"a new volume is whole or nothing", a_new_volume_is_whole_or_nothing},
	{"a removed volume is whole or gone",
		a_removed_volume_is_whole_or_gone},
	{"a keeper killed in a launch leaves nothing",
		a_keeper_killed_in_a_launch_leaves_nothing},
	{"a keeper killed in a start leaves nothing",
		a_keeper_killed_in_a_start_leaves_nothing},
	{"a keeper killed in a run leaves nothing",
		a_keeper_killed_in_a_run_leaves_nothing},
	{"a killed build is whole or nothing",
		a_killed_build_is_whole_or_nothing},
	{"a refused build leaves nothing", a_refused_build_leaves_nothing},
	{"a killed capture is whole or nothing",
		a_killed_capture_is_whole_or_nothing},
	{"a refused capture leaves nothing", a_refused_capture_leaves_nothing},
	CU_TEST_INFO_NULL};

const struct suite suite_steps = {"steps", tests};
