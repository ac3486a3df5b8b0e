/* Random commands, several at once, with kill -9 of commands, keepers and
 * programs in between. A model says which states each container may be in;
 * events, ports, processes and folders must agree with it.
 *
 * HULL_MODEL_STEPS and HULL_MODEL_SEED choose another length and course. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "e2e/harness.h"

#define BOXES 4
#define STEPS 400
#define AT_ONCE 3

static unsigned int state_of_chance;

static unsigned int chance(unsigned int below)
{
	state_of_chance = state_of_chance * 1103515245u + 12345u;
	return (state_of_chance >> 16) % below;
}

/* What the events say that may follow what (docs/design.md). */
static bool may_follow(const char *from, const char *to)
{
	static const char *const steps[][2] = {{"", "created"},
		{"created", "running"}, {"created", "stopped"},
		{"created", "removed"}, {"running", "running"},
		{"running", "paused"}, {"running", "stopped"},
		{"running", "waiting"}, {"running", "removed"},
		{"paused", "running"}, {"paused", "stopped"},
		{"paused", "waiting"}, {"paused", "removed"},
		{"paused", "paused"}, {"stopped", "running"},
		{"stopped", "stopped"}, {"stopped", "removed"},
		{"waiting", "running"}, {"waiting", "stopped"},
		{"waiting", "waiting"}, {"waiting", "removed"},
		{"created", "created"}};

	for (size_t i = 0; i < COUNT_OF(steps); i++) {
		if (strcmp(steps[i][0], from) == 0 &&
			strcmp(steps[i][1], to) == 0)
			return true;
	}
	return false;
}

static pid_t begin_step(int box)
{
	static const char *const lines[][2] = {
		{"launch selwick/base --network none --name ",
			" -- sleep 1000"},
		{"launch selwick/base --network none --restart "
		 "always,delay=20ms,ceiling=50ms --name ",
			" -- sh -c 'sleep 0.1; exit 1'"},
		{"create selwick/base --network none --name ",
			" -- sleep 1000"},
		{"start ", ""}, {"stop --grace 1s ", ""},
		{"restart --grace 1s ", ""}, {"kill ", ""}, {"pause ", ""},
		{"resume ", ""}, {"remove ", ""}, {"remove --force ", ""},
		{"exec ", " -- true"}, {"exec --background ", " -- sleep 3"},
		{"why ", ""}, {"list --all --json", NULL},
		{"adjust --restart never ", ""},
		{"adjust --restart on-failure,tries=3,delay=20ms ", ""},
		{"timeline ", ""}, {"logs ", ""}};
	const char *const *line = lines[chance(COUNT_OF(lines))];

	if (!line[1])
		return hull_start("step", "%s", line[0]);
	return hull_start("step", "%sb%d%s", line[0], box, line[1]);
}

/* One of the processes of the tests' own PID namespace: a keeper or a
 * container's. */
static void kill_somebody(void)
{
	static const char *const whom[] = {"pkill -9 -o tidyhull-keeper",
		"pkill -9 -n tidyhull-keeper", "pkill -9 -o sleep",
		"pkill -9 -n sleep"};

	as_root("%s", whom[chance(COUNT_OF(whom))]);
}

/* The state is one of the machine's, and the world agrees with it. */
static void check_box(int box)
{
	char name[16], state[32], pid[32];

	snprintf(name, sizeof(name), "b%d", box);
	snprintf(state, sizeof(state), "%s", field(name, "state"));
	if (!*state)
		return; /* it is not there */
	snprintf(pid, sizeof(pid), "%s", field(name, "pid"));
	if (strcmp(state, "running") == 0 || strcmp(state, "paused") == 0) {
		/* It may have ended between the two looks. */
		if (kill(atoi(pid), 0) &&
			strcmp(field(name, "state"), state) == 0 &&
			strcmp(field(name, "pid"), pid) == 0)
			CU_FAIL("what is said to run is not there");
		return;
	}
	CHECK(strcmp(state, "created") == 0 || strcmp(state, "stopped") == 0 ||
		strcmp(state, "waiting") == 0);
	if (strcmp(state, "stopped") == 0)
		CHECK(*field(name, "outcome.kind") != '\0');
}

/* Every event of every container, in its order. */
static size_t check_events(void)
{
	char path[300], line[2048];
	struct last {
		char id[16], state[16];
	} *last = calloc(20000, sizeof(*last));
	size_t known = 0, count = 0;
	FILE *file;

	CHECK_INT(wait_for(hull_start("events", "timeline --json-lines")), 0);
	snprintf(path, sizeof(path), "%s/events", world_folder);
	file = fopen(path, "r");
	while (file && fgets(line, sizeof(line), file)) {
		json_t *event = json_loads(line, 0, NULL);
		const char *id =
			json_string_value(json_object_get(event, "container"));
		const char *from =
			json_string_value(json_object_get(event, "from"));
		const char *to =
			json_string_value(json_object_get(event, "to"));
		size_t i = 0;

		/* Nothing was before its creation. */
		from = from ? from : "";
		if (!id || !to) {
			CU_FAIL("an event is not whole");
			break;
		}
		while (i < known && strcmp(last[i].id, id) != 0)
			i++;
		if (i == known) {
			known++;
			snprintf(last[i].id, sizeof(last[i].id), "%s", id);
		}
		if (strcmp(last[i].state, from) != 0 || !may_follow(from, to)) {
			printf("\n    %s: after %s came %s -> %s\n", id,
				last[i].state, from, to);
			CU_FAIL("events that cannot follow one another");
		}
		snprintf(last[i].state, sizeof(last[i].state), "%s", to);
		json_decref(event);
		count++;
	}
	if (file)
		fclose(file);
	free(last);
	return count;
}

static void random_courses_end_well(void)
{
	const char *steps_text = getenv("HULL_MODEL_STEPS");
	const char *seed_text = getenv("HULL_MODEL_SEED");
	long steps = steps_text ? atol(steps_text) : STEPS;
	size_t events;

	state_of_chance = seed_text ? (unsigned int)atol(seed_text)
				    : (unsigned int)time(NULL);
	printf("\n    seed %u ...", state_of_chance);
	CODE(hull("pull selwick/base"), 0);
	for (long step = 0; step < steps; step += AT_ONCE) {
		pid_t pids[AT_ONCE];

		for (int i = 0; i < AT_ONCE; i++)
			pids[i] = begin_step((int)chance(BOXES));
		if (chance(4) == 0) {
			usleep(chance(30000));
			signal_to(pids[chance(AT_ONCE)], SIGKILL);
		}
		if (chance(6) == 0)
			kill_somebody();
		for (int i = 0; i < AT_ONCE; i++) {
			int code = wait_for(pids[i]);

			/* No crash, and no code that nobody has defined. */
			if (code > 6 && code != 125 && code != 137 &&
				code != 143) {
				printf("\n    code %d\n", code);
				CU_FAIL("a command ended in a strange way");
			}
		}
		if (step % (AT_ONCE * 10) == 0) {
			for (int box = 0; box < BOXES; box++)
				check_box(box);
		}
	}
	/* A keeper may be on its way from a command that was killed. */
	for (int i = 0; i < 100; i++) {
		hull("remove --force b0 b1 b2 b3");
		if (strstr(hull("list --all")->out, "there are no containers"))
			break;
		usleep(50000);
	}
	SAYS(hull("list --all")->out, "there are no containers");
	events = check_events();
	CHECK(events > (size_t)steps / 8);
}

/* ---- one command at a time: exactly as the model says ---- */

enum model { NONE, CREATED, RUNNING, PAUSED, STOPPED };

static const char *const words[] = {
	"", "created", "running", "paused", "stopped"};

/* What each command comes to in each state: the exit code, and the state that
 * follows (-1: the same). */
static const struct {
	const char *line;
	struct {
		int code, next;
	} in[5];
} model[] = {
	{"launch selwick/base --network none --name box -- sleep 1000",
		{{0, RUNNING}, {4, -1}, {4, -1}, {4, -1}, {4, -1}}},
	{"create selwick/base --network none --name box -- sleep 1000",
		{{0, CREATED}, {4, -1}, {4, -1}, {4, -1}, {4, -1}}},
	{"start box", {{3, -1}, {0, RUNNING}, {0, -1}, {4, -1}, {0, RUNNING}}},
	{"stop box", {{3, -1}, {0, -1}, {0, STOPPED}, {0, STOPPED}, {0, -1}}},
	{"restart box",
		{{3, -1}, {0, RUNNING}, {0, -1}, {0, RUNNING}, {0, RUNNING}}},
	{"pause box", {{3, -1}, {1, -1}, {0, PAUSED}, {1, -1}, {1, -1}}},
	{"resume box", {{3, -1}, {1, -1}, {1, -1}, {0, RUNNING}, {1, -1}}},
	{"remove box", {{3, -1}, {0, NONE}, {4, -1}, {4, -1}, {0, NONE}}},
	{"remove --force box",
		{{3, -1}, {0, NONE}, {0, NONE}, {0, NONE}, {0, NONE}}},
	{"exec box -- true",
		{{125, -1}, {125, -1}, {0, -1}, {125, -1}, {125, -1}}},
	{"adjust box --restart never",
		{{3, -1}, {0, -1}, {0, -1}, {0, -1}, {0, -1}}},
	{"rename box box", {{3, -1}, {0, -1}, {0, -1}, {0, -1}, {0, -1}}},
	{"why box", {{3, -1}, {0, -1}, {0, -1}, {0, -1}, {0, -1}}},
	{"copy box:/etc/motd motd",
		{{3, -1}, {0, -1}, {0, -1}, {0, -1}, {0, -1}}},
};

static void one_at_a_time_as_the_model_says(void)
{
	const char *seed_text = getenv("HULL_MODEL_SEED");
	enum model state = NONE;

	state_of_chance = seed_text ? (unsigned int)atol(seed_text)
				    : (unsigned int)time(NULL);
	printf("\n    seed %u ...", state_of_chance);
	CODE(hull("pull selwick/base"), 0);
	for (int step = 0; step < STEPS; step++) {
		size_t pick = chance(COUNT_OF(model));
		struct result *result = hull("%s", model[pick].line);
		int code = result->code;

		if (code != model[pick].in[state].code) {
			printf("\n    %s while %s: %d instead of %d\n",
				model[pick].line, words[state], code,
				model[pick].in[state].code);
			printf("    %s", result->err);
			CU_FAIL("another code than the model's");
		}
		if (model[pick].in[state].next >= 0)
			state = (enum model)model[pick].in[state].next;
		if (strcmp(field("box", "state"), words[state]) != 0) {
			printf("\n    after %s: %s instead of %s\n",
				model[pick].line, field("box", "state"),
				words[state]);
			CU_FAIL("another state than the model's");
			break;
		}
	}
	hull("remove --force box");
	CHECK(check_events() > STEPS / 8);
}

static const CU_TestInfo tests[] = {
	{"one at a time, as the model says", one_at_a_time_as_the_model_says},
	{"random courses end well", random_courses_end_well},
	CU_TEST_INFO_NULL};

const struct suite suite_model = {"model", tests};
