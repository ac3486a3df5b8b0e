/* A bundle in the foreground, and a creation that holds nobody: as batch
 * engines use them. */
#include <errno.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

#include "e2e/bundles.h"
#include "e2e/harness.h"

/* "oci run" of the test's bundle; what it says is in the file "said". */
static pid_t run_it(const char *more)
{
	return hull_start("said",
		"oci run --root %s/oci --bundle %s/bundle %s box", world_folder,
		world_folder, more);
}

static bool is_gone(void)
{
	struct result *result =
		hull("oci state --root %s/oci box", world_folder);

	return result->code == 3 && strstr(result->err, "no container");
}

static bool has_gone(void *arg)
{
	(void)arg;
	return is_gone();
}

/* Somebody else has to wait for it yet. */
static bool process_has_gone(void *path)
{
	return access(path, F_OK) != 0;
}

static bool says_ready(void *arg)
{
	(void)arg;
	return file_holds("said", "ready");
}

static bool has_written(void *arg)
{
	(void)arg;
	return file_holds("written", "<>");
}

static void the_code_is_the_programs(void)
{
	bundle_make();
	bundle_write("", "echo said; exit 7");
	CHECK_INT(wait_for(run_it("")), 7);
	CHECK(file_holds("said", "said"));
	CHECK(is_gone());
	/* Options may stand before the operation, too. */
	bundle_write("", "exit 3");
	CODE(hull("oci --root %s/oci --bundle %s/bundle run box", world_folder,
		     world_folder),
		3);
	CHECK(is_gone());
}

/* Those that nobody hears do what they mean. */
static void signals_are_passed_on(void)
{
	pid_t pid;

	bundle_make();
	bundle_write("",
		"trap 'echo heard; exit 4' USR1; echo ready; "
		"while :; do sleep 0.05; done");
	pid = run_it("");
	CHECK(wait_until(says_ready, NULL));
	signal_to(pid, SIGUSR1);
	CHECK_INT(wait_for(pid), 4);
	CHECK(file_holds("said", "heard"));
	bundle_write("", "echo ready; exec sleep 1000");
	pid = run_it("");
	CHECK(wait_until(says_ready, NULL));
	signal_to(pid, SIGTERM);
	CHECK_INT(wait_for(pid), 143);
	CHECK(is_gone());
}

/* One that goes on until it is ended; *inside is its program. */
static pid_t run_sleeper(int *inside)
{
	pid_t pid;

	bundle_make();
	bundle_write("", "echo ready; exec sleep 1000");
	pid = run_it("--pid-file pid");
	CHECK(wait_until(says_ready, NULL));
	*inside = atoi(other("cat pid")->out);
	CHECK(*inside > 0);
	return pid;
}

/* An engine kills without a word: nothing goes on, and nothing is left. */
static void it_may_be_killed(void)
{
	char path[64];
	pid_t pid;
	int inside;

	pid = run_sleeper(&inside);
	signal_to(pid, SIGKILL);
	wait_for(pid);
	CHECK(wait_until(has_gone, NULL));
	snprintf(path, sizeof(path), "/proc/%d", inside);
	CHECK(wait_until(process_has_gone, path));
}

static bool is_running(void)
{
	struct result *result =
		hull("oci state --root %s/oci box", world_folder);

	return strstr(result->out, "\"running\"") != NULL;
}

/* One that dies, at whichever call, does not take another one's container of
 * the same ID with it. */
static void another_ones_container_stays(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	char line[500];
	int code = 0;
	pid_t pid;

	bundle_make();
	bundle_write("", "echo ready; exec sleep 1000");
	pid = run_it("");
	CHECK(wait_until(says_ready, NULL));
	snprintf(line, sizeof(line),
		"oci run --root %s/oci --bundle %s/bundle box", world_folder,
		world_folder);
	while (hull_step(&step, &code, "%s", line)) {
		step.number++;
		/* What the guard does, it does at once. */
		usleep(50000);
		if (!is_running()) {
			CU_FAIL("it was taken away");
			break;
		}
	}
	CHECK(step.number > 1);
	CHECK_INT(code, 125);
	signal_to(pid, SIGTERM);
	CHECK_INT(wait_for(pid), 143);
}

/* What a restart of the host has left of a run holds no ID; a container that
 * was created is its maker's. */
static void a_lost_run_gives_its_id_free(void)
{
	static const char forget[] =
		"sed -i -E 's/\"boot\": *\"[^\"]*\"/\"boot\":\"another\"/' "
		"oci/box/state.json";
	struct result *result;

	bundle_make();
	bundle_write("", "echo again");
	CODE(hull("oci create --root %s/oci --bundle %s/bundle --output kept "
		  "box",
		     world_folder, world_folder),
		0);
	result = hull("oci run --root %s/oci --bundle %s/bundle box",
		world_folder, world_folder);
	CODE(result, 125);
	SAYS(result->err, "taken by another");
	CODE(hull("oci kill --root %s/oci box KILL", world_folder), 0);
	CODE(other("%s", forget), 0);
	result = hull("oci create --root %s/oci --bundle %s/bundle --output "
		      "kept box",
		world_folder, world_folder);
	CHECK(result->code != 0);
	result = hull("oci run --root %s/oci --bundle %s/bundle box",
		world_folder, world_folder);
	CODE(result, 0);
	CHECK_TEXT(result->out, "again\n");
	CHECK(wait_until(has_gone, NULL));
}

/* Whoever would have removed it has gone too, while the host runs on: a job's
 * node whose daemon is started anew. The container goes on for nobody. */
static void a_run_without_its_guard_gives_its_id_free(void)
{
	char path[64];
	pid_t pid;
	int inside;

	pid = run_sleeper(&inside);
	/* Alive, it is nobody else's. */
	CODE(hull("oci run --root %s/oci --bundle %s/bundle box", world_folder,
		     world_folder),
		125);
	CODE(other("sh -c 'for one in $(cat /proc/%d/task/%d/children); do "
		   "[ $one = %d ] || kill -KILL $one; done; kill -KILL %d'",
		     (int)pid, (int)pid, inside, (int)pid),
		0);
	wait_for(pid);
	bundle_write("", "echo again");
	CHECK_INT(wait_for(run_it("")), 0);
	CHECK(file_holds("said", "again"));
	CHECK(is_gone());
	snprintf(path, sizeof(path), "/proc/%d", inside);
	CHECK(wait_until(process_has_gone, path));
}

/* At whichever call: the guard removes all of it, its group too. */
static void killed_anywhere_nothing_is_left(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	char line[500];
	int code = 0;

	bundle_make();
	bundle_write("", "true");
	snprintf(line, sizeof(line),
		"oci run --root %s/oci --bundle %s/bundle box", world_folder,
		world_folder);
	while (hull_step(&step, &code, "%s", line)) {
		step.number++;
		if (!wait_until(has_gone, NULL)) {
			CU_FAIL("it was left");
			CODE(hull("oci delete --force --root %s/oci box",
				     world_folder),
				0);
		}
	}
	CHECK(step.number > 1);
	CHECK_INT(code, 0);
	CHECK_TEXT(other("ls -A oci")->out, "");
}

/* A creation has no guard: what is left can be deleted, and nothing waits for a
 * start. */
static void a_killed_creation_can_be_deleted(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	char line[500];
	int code = 0;

	bundle_make();
	bundle_write("", "true");
	snprintf(line, sizeof(line),
		"oci create --root %s/oci --bundle %s/bundle --output none box",
		world_folder, world_folder);
	while (hull_step(&step, &code, "%s", line)) {
		step.number++;
		if (is_gone())
			continue;
		CODE(hull("oci delete --force --root %s/oci box", world_folder),
			0);
	}
	CHECK(step.number > 1);
	CODE(hull("oci delete --force --root %s/oci box", world_folder), 0);
	CHECK_TEXT(other("ls -A oci")->out, "");
}

/* An engine cleans up as root behind a user's job, whose bundle could name any
 * hook. */
static void root_acts_for_its_user(void)
{
	char user[60], line[500];
	struct result *result;

	if (!world_user)
		return;
	snprintf(user, sizeof(user), "%.*s",
		(int)strcspn(other("id -un")->out, "\n"), other("id -un")->out);
	bundle_make();
	bundle_write("{\"hooks\":{\"poststop\":[{\"path\":\"/bin/sh\",\"args\":"
		     "[\"sh\",\"-c\",\"id -u >@/stopped\"]}]}}",
		"sleep 1000");
	/* Its states are the same, wherever the environment says they were. */
	CODE(other("env XDG_RUNTIME_DIR=%s %s/tidyhull oci create --of %s "
		   "--bundle %s/bundle --output none box-%s",
		     world_folder, world_build, user, world_folder,
		     bundle_tag()),
		0);
	CODE(as_root("%s/tidyhull oci state box-%s", world_build, bundle_tag()),
		3);
	result = as_root("%s/tidyhull oci delete --force --root "
			 "/tmp/tidyhull-%d/oci box-%s",
		world_build, (int)world_user, bundle_tag());
	CODE(result, 2);
	SAYS(result->err, "--of USER");
	result = as_root("%s/tidyhull oci state --of %s box-%s", world_build,
		user, bundle_tag());
	CODE(result, 0);
	SAYS(result->out, "\"created\"");
	CODE(as_root("%s/tidyhull oci delete --force --of %s box-%s",
		     world_build, user, bundle_tag()),
		0);
	snprintf(line, sizeof(line), "%d\n", (int)world_user);
	CHECK(file_holds("stopped", line));
	result = hull("oci state --of root box");
	CODE(result, 2);
	SAYS(result->err, "only root can act for another user");
	result = hull("oci state --of nosuch box");
	CODE(result, 3);
}

static void what_cannot_start_is_told(void)
{
	struct result *result;

	bundle_make();
	bundle_write("{\"process\":{\"args\":[\"/nosuch\"]}}", "true");
	result = hull("oci run --root %s/oci --bundle %s/bundle --log %s/log "
		      "box",
		world_folder, world_folder, world_folder);
	CODE(result, 127);
	SAYS(result->err, "tidyhull: ");
	SAYS(result->err, "/nosuch");
	CHECK(file_holds("log", "\"level\":\"error\""));
	CHECK(is_gone());
	result = hull("oci run --root %s/oci --bundle %s/nosuch box",
		world_folder, world_folder);
	CODE(result, 125);
	SAYS(result->err, "config.json");
	CODE(hull("oci run --root %s/oci --bundle %s/bundle --output none box",
		     world_folder, world_folder),
		125);
	CODE(hull("oci run --root %s/oci a/b", world_folder), 125);
}

static void a_terminal_is_passed_through(void)
{
	int master = -1;
	static char text[OUTPUT_BYTES];
	pid_t pid;

	bundle_make();
	bundle_write("{\"process\":{\"terminal\":true}}",
		"stty size; tty; read line; echo got $line; exit 5");
	pid = hull_terminal(&master,
		"oci run --root %s/oci --bundle %s/bundle box", world_folder,
		world_folder);
	CHECK(master >= 0);
	CHECK(screen_until(master, text, "/dev/pts/0"));
	SAYS(text, "24 80");
	type_keys(master, "high water\r");
	CHECK(screen_until(master, text, "got high water"));
	CHECK_INT(wait_for(pid), 5);
	close(master);
	CHECK(is_gone());
	/* Without one of its own it passes what comes. */
	bundle_write("{\"process\":{\"terminal\":true}}", "tty; exit 6");
	CHECK_INT(wait_for(run_it("")), 6);
	CHECK(file_holds("said", "/dev/pts/0"));
}

static bool is_as_before(void *arg)
{
	const int *master = arg;
	struct termios now;

	return tcgetattr(*master, &now) == 0 && now.c_lflag & ICANON &&
		now.c_lflag & ECHO;
}

/* Killed, it can put nothing right itself. */
static void a_terminal_is_put_right(void)
{
	static char text[OUTPUT_BYTES];
	int master = -1;
	pid_t pid;

	bundle_make();
	bundle_write("{\"process\":{\"terminal\":true}}",
		"echo ready; exec sleep 1000");
	pid = hull_terminal(&master,
		"oci run --root %s/oci --bundle %s/bundle box", world_folder,
		world_folder);
	CHECK(screen_until(master, text, "ready"));
	CHECK(!is_as_before(&master));
	signal_to(pid, SIGKILL);
	wait_for(pid);
	CHECK(wait_until(is_as_before, &master));
	CHECK(wait_until(has_gone, NULL));
	close(master);
}

/* Whoever reads what a creation says to its end is not held by the container.
 */
static void a_creation_can_let_go_of_its_streams(void)
{
	bundle_make();
	bundle_write("",
		"echo out; echo err >&2; read line; echo \"<$line>\"; "
		"exec sleep 1000");
	CODE(other("sh -c 'timeout 20 %s/tidyhull oci create --root %s/oci "
		   "--bundle %s/bundle --output %s/written box | cat'",
		     world_build, world_folder, world_folder, world_folder),
		0);
	CODE(hull("oci start --root %s/oci box", world_folder), 0);
	CHECK(wait_until(has_written, NULL));
	CHECK(file_holds("written", "out\nerr\n<>\n"));
	CODE(hull("oci delete --force --root %s/oci box", world_folder), 0);
	CODE(other("sh -c '%s/tidyhull oci create --root %s/oci --bundle "
		   "%s/bundle --output none box | cat'",
		     world_build, world_folder, world_folder),
		0);
	CODE(hull("oci delete --force --root %s/oci box", world_folder), 0);
	CODE(hull("oci create --root %s/oci --bundle %s/bundle --output "
		  "/nonexistent/x box",
		     world_folder, world_folder),
		1);
	CHECK(is_gone());
}

/* What an engine sets for each task is not in the bundle that they share; and
 * it is nobody else's to see. */
static void variables_of_the_caller_can_be_passed(void)
{
	struct result *result;

	bundle_make();
	bundle_write("{\"process\":{\"env\":[\"BERTH_NAME=none\","
		     "\"PATH=/bin\"]}}",
		"echo $BERTH_NAME-$BERTH_RANK-$OTHER");
	result = other("env BERTH_NAME=north BERTH_RANK=3 OTHER=x "
		       "%s/tidyhull oci run --root %s/oci --bundle %s/bundle "
		       "--env BERTH_* --env BERTH_NAME=south box",
		world_build, world_folder, world_folder);
	CODE(result, 0);
	SAYS(result->out, "south-3-\n");
	result = hull(
		"oci run --root %s/oci --bundle %s/bundle --env NOSUCH box",
		world_folder, world_folder);
	CODE(result, 125);
	SAYS(result->err, "NOSUCH is not set");
	CODE(hull("oci run --root %s/oci --bundle %s/bundle --env =1 box",
		     world_folder, world_folder),
		125);
}

static const CU_TestInfo tests[] = {
	{"variables of the caller", variables_of_the_caller_can_be_passed},
	{"the code is the program's", the_code_is_the_programs},
	{"signals are passed on", signals_are_passed_on},
	{"it may be killed", it_may_be_killed},
	{"another one's container stays", another_ones_container_stays},
	{"a lost run gives its ID free", a_lost_run_gives_its_id_free},
	{"a run without its guard gives its ID free",
		a_run_without_its_guard_gives_its_id_free},
	{"killed anywhere, nothing is left", killed_anywhere_nothing_is_left},
	{"a killed creation can be deleted", a_killed_creation_can_be_deleted},
	{"root acts for its user", root_acts_for_its_user},
	{"what cannot start is told", what_cannot_start_is_told},
	{"a terminal is passed through", a_terminal_is_passed_through},
	{"a terminal is put right", a_terminal_is_put_right},
	{"a creation can let go", a_creation_can_let_go_of_its_streams},
	CU_TEST_INFO_NULL};

const struct suite suite_oci_run = {"oci-run", tests};
