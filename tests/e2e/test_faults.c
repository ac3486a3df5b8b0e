/* Each verb with each program dying, or refused something, at calls from the
 * first to the last: whatever comes of it, the store is whole afterwards, what
 * is said to run runs, and nothing stays on the host. The checks know no more
 * than a user does.
 *
 * One of very many calls here; HULL_EVERY=1 is all of them (make faults), and
 * HULL_ACT=NAME one act, HULL_FROM=N from that call on. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "e2e/harness.h"

#define USUAL 89
#define BEFORE_MAX 4

/* A line of tidyhull; what has to be there before it; whether its image is here
 * already. */
struct act {
	const char *name;
	const char *before[BEFORE_MAX];
	const char *line;
};

#define BOX                                                                    \
	"selwick/base --name box --network berths --mount /data=volume:ledger"
#define FOREVER " -q -- sleep 1000"

static const struct act acts[] = {{"pull", {NULL}, "pull selwick/gauge"},
	{"create", {NULL}, "create " BOX " --port 80=8080" FOREVER},
	{"launch", {NULL}, "launch " BOX " --port 80=8080" FOREVER},
	{"run", {NULL}, "run " BOX " -- true"},
	{"start", {"create " BOX FOREVER}, "start box"},
	{"stop", {"launch " BOX FOREVER}, "stop box"},
	{"kill", {"launch " BOX FOREVER}, "kill box"},
	{"restart", {"launch " BOX FOREVER}, "restart box"},
	{"pause", {"launch " BOX FOREVER}, "pause box"},
	{"exec", {"launch " BOX FOREVER}, "exec box -- true"},
	{"rename", {"launch " BOX FOREVER}, "rename box crate"},
	{"adjust", {"launch " BOX FOREVER}, "adjust box --restart always"},
	{"recreate", {"launch " BOX FOREVER}, "recreate box --env A=1"},
	{"remove", {"create " BOX FOREVER}, "remove box"},
	{"remove --force", {"launch " BOX FOREVER}, "remove --force box"},
	{"remove volume", {"new volume charts"}, "remove volume:charts"},
	{"remove network", {"new network pier"}, "remove network:pier"},
	{"tag", {NULL}, "tag selwick/base selwick/again"},
	{"remove image", {"tag selwick/base selwick/again"},
		"remove selwick/again"},
	{"capture", {"create " BOX FOREVER}, "capture box selwick/caught"},
	{"copy", {"create " BOX FOREVER}, "copy box:/etc/passwd ./passwd"},
	{"sweep", {"run --keep selwick/base --network none -- true"},
		"sweep --yes"}};

/* Findings so far, and steps; for people. */
static long steps;

static long stride(void)
{
	const char *every = getenv("HULL_EVERY");

	return every ? atol(every) : USUAL;
}

static bool nothing_on_the_host(void *arg)
{
	(void)arg;
	/* What a keeper could not take away, the next look does. */
	hull("list -q");
	return as_root("sh -c 'ip -o link | grep -v \" lo:\"; nft list "
		       "ruleset; pgrep -x tidyhull-keepe'")
		       ->out[0] == '\0';
}

static bool no_groups(void *arg)
{
	(void)arg;
	hull("list -q");
	return world_groups() == 0;
}

static bool is_not_running(void *name)
{
	return strcmp(field(name, "state"), "running") != 0;
}

/* What is said to run answers, and what is not, does not. */
static void check_truth(void)
{
	json_t *doc = hull_json("list --all --json"), *one;
	json_t *list = json_object_get(doc, "containers");
	char name[64], state[16], why[200];
	struct result *result;
	bool answers;
	size_t i;

	json_array_foreach(list, i, one)
	{
		snprintf(name, sizeof(name), "%s",
			json_string_value(json_object_get(one, "name")));
		snprintf(state, sizeof(state), "%s",
			json_string_value(json_object_get(one, "state")));
		result = hull("exec %s -- true", name);
		answers = result->code == 0;
		snprintf(why, sizeof(why), "%.199s", result->err);
		/* It may be just about to end: the state knows it a moment
		 * later. */
		if (!answers) {
			wait_until(is_not_running, name);
			snprintf(state, sizeof(state), "%s",
				field(name, "state"));
		}
		if (strcmp(state, "paused") != 0 &&
			answers != (strcmp(state, "running") == 0)) {
			CU_FAIL("what is said to run does not answer");
			printf("%s is %s; exec: %s\n", name, state, why);
			printf("%s", hull("timeline %s", name)->out);
		}
		CODE(hull("why %s", name), 0);
		CODE(hull("logs %s", name), 0);
	}
	json_decref(doc);
}

static bool is_whole(void *arg)
{
	(void)arg;
	/* Any look mends. */
	hull("list");
	return hull("doctor --verify")->code == 0;
}

static void clear(void)
{
	hull("remove --force --all --yes -q");
	hull("remove volume:ledger volume:charts network:berths network:pier "
	     "-q");
	hull("remove selwick/again selwick/caught selwick/gauge -q");
	hull("sweep --yes -q");
}

static void look(const struct act *act, const struct step *step)
{
	int before = (int)CU_get_number_of_failures();

	check_truth();
	if (!wait_until(is_whole, NULL)) {
		CU_FAIL("the store is not whole");
		printf("%s", hull("doctor --verify")->out);
	}
	clear();
	if (!wait_until(nothing_on_the_host, NULL)) {
		CU_FAIL("something stays on the host");
		printf("%s",
			as_root("sh -c 'ip -o link; nft list ruleset; "
				"pgrep -ax tidyhull-keepe'")
				->out);
	}
	if (!wait_until(no_groups, NULL))
		CU_FAIL("a control group stays");
	CHECK_TEXT(as_root("sh -c 'ls -A %s/containers %s/tmp | grep -v :$ | "
			   "grep .'",
			   world_store, world_store)
			   ->out,
		"");
	SAYS(hull("list --all")->out, "there are no containers");
	if ((int)CU_get_number_of_failures() > before)
		printf("    %s: %s, call %ld, error %d\n", act->name,
			step->program, step->number, step->error);
}

static void make_before(const struct act *act)
{
	for (size_t i = 0; i < BEFORE_MAX && act->before[i]; i++)
		CODE(hull("%s", act->before[i]), 0);
}

/* The number of the first call is another one for each act, so that short ones
 * are not always hit at the same place. */
static void walk(
	const struct act *act, const char *program, int error, long first)
{
	struct step step = {
		.program = program, .error = error, .number = first};
	bool hit = true;
	int code = 0;

	while (hit) {
		make_before(act);
		hit = hull_step(&step, &code, "%s", act->line);
		if (!hit && code) {
			CU_FAIL("it fails without a fault");
			printf("    %s: %s, exit code %d: %s\n", act->name,
				act->line, code, other("cat out")->out);
		}
		look(act, &step);
		steps++;
		step.number += stride();
	}
}

static void walk_all(int error)
{
	/* The container's own process is one of the keeper's, by its name,
	 * until it executes its program. Root has no pilot. */
	static const char *const programs[] = {
		"tidyhull", "tidyhull-keeper", "tidyhull-pilot"};
	size_t count = world_user ? 3 : 2;
	const char *only = getenv("HULL_ACT");
	long first = error;

	CODE(hull("pull selwick/base"), 0);
	for (size_t i = 0; i < COUNT_OF(acts); i++) {
		if (only && strcmp(only, acts[i].name) != 0)
			continue;
		for (size_t p = 0; p < count; p++) {
			first = getenv("HULL_FROM")
				? atol(getenv("HULL_FROM"))
				: (first * 31 + 17) % stride();
			walk(&acts[i], programs[p], error, first);
		}
	}
	if (getenv("HULL_EVERY"))
		printf("\n    %ld steps so far\n", steps);
	CODE(hull("remove selwick/base"), 0);
}

static void death_at_any_call(void)
{
	walk_all(0);
}

static void a_full_disk_at_any_call(void)
{
	walk_all(ENOSPC);
}

static void a_broken_disk_at_any_call(void)
{
	walk_all(EIO);
}

/* ---- damage of any file ---- */

/* What becomes of it, as a line of sh. */
static const char *const damages[] = {": >\"$f\"", /* empty */
	"truncate -s $(($(stat -c %s \"$f\") / 2)) \"$f\"",
	"printf \"\\377{[oops\" | dd of=\"$f\" conv=notrunc status=none",
	"rm \"$f\"", "rm \"$f\"; mkdir \"$f\"", "rm \"$f\"; mkfifo \"$f\""};

/* Whatever is said, nothing crashes, and nothing hangs. */
static void try_all(const char *file, const char *damage)
{
	static const char *const lines[] = {"list --all", "list images",
		"show idle", "why idle", "logs done", "timeline", "start idle",
		"launch selwick/base --name fresh --network none -- true",
		"doctor --verify", "doctor --repair", "list --all",
		"show selwick/base", "remove --force --all --yes",
		"pull selwick/base", "run selwick/base --network none -- true",
		"doctor --verify"};
	int before = (int)CU_get_number_of_failures();

	for (size_t i = 0; i < COUNT_OF(lines); i++) {
		struct result *result = hull("%s", lines[i]);

		/* 125: our own failure of "run". */
		if (result->code > 10 && result->code != 125) {
			CU_FAIL("a command crashes");
			printf("    %s: exit code %d\n", lines[i],
				result->code);
		}
		if (result->code && !result->err[0] && !result->out[0]) {
			CU_FAIL("a command does not say what is wrong");
			printf("    %s: exit code %d\n", lines[i],
				result->code);
		}
	}
	/* After the repair and a pull all is as with a new store. */
	CODE(hull("doctor --verify"), 0);
	if ((int)CU_get_number_of_failures() > before) {
		printf("    %s: %s\n", file, damage);
		printf("%s", hull("doctor --verify")->out);
	}
	hull("remove --force --all --yes -q");
}

static void damage_of_any_file(void)
{
	char *files, *rest = NULL;
	size_t number = 0;

	CODE(hull("pull selwick/base"), 0);
	CODE(hull("create " BOX " -q -- true"), 0);
	CODE(hull("rename box idle"), 0);
	CODE(hull("launch selwick/base --name done --network none -- sh -c "
		  "'echo tide'"),
		0);
	CODE(hull("wait done"), 0);
	/* The files of images are not among them: what is in a layer is not
	 * compared with its archive. */
	CODE(as_root("cp -a %s whole", world_store), 0);
	files = strdup(as_root("sh -c 'cd %s && find . -type f ! -path "
			       "\"./trees/*\" | sort'",
		world_store)
			       ->out);
	for (char *file = strtok_r(files, "\n", &rest); file;
		file = strtok_r(NULL, "\n", &rest)) {
		for (size_t i = 0; i < COUNT_OF(damages); i++) {
			/* All of them take minutes. */
			if (number++ % (getenv("HULL_EVERY") ? 1 : 7))
				continue;
			as_root("sh -c 'cd %s && f=%s; %s'", world_store, file,
				damages[i]);
			try_all(file, damages[i]);
			as_root("rm -rf %s", world_store);
			CODE(as_root("cp -a whole %s", world_store), 0);
		}
	}
	CHECK(number > 50);
	free(files);
	as_root("rm -rf whole");
	hull("remove --force --all --yes -q");
	hull("remove volume:ledger network:berths selwick/base -q");
}

static const CU_TestInfo tests[] = {{"damage of any file", damage_of_any_file},
	{"death at any call", death_at_any_call},
	{"a full disk at any call", a_full_disk_at_any_call},
	{"a broken disk at any call", a_broken_disk_at_any_call},
	CU_TEST_INFO_NULL};

const struct suite suite_faults = {"faults", tests};
