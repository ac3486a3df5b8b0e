/* A store whose disk is full, or takes nothing at all: what has happened is
 * told as it was, then and later. */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static char root[300];

static void make_store(void)
{
	snprintf(root, sizeof(root), "%s/full/store", world_folder);
	CODE(as_root("sh -c 'mkdir full && mount -t tmpfs -o "
		     "size=160M,mode=777 "
		     "none full'"),
		0);
	CODE(hull("unpack -q --root %s %s/demo-images", root, world_build), 0);
}

static void fill(void)
{
	as_root("dd if=/dev/zero of=full/rest bs=4k status=none");
	CHECK(as_root("sh -c 'head -c 9000 /dev/zero > full/more'")->code != 0);
}

static void empty(void)
{
	CODE(as_root("rm full/rest full/more"), 0);
}

static void remove_store(void)
{
	CODE(hull("remove --force --all --yes -q --root %s", root), 0);
	/* A user's networks may still be at their end. */
	CODE(as_root("umount --lazy full"), 0);
}

static void launch(const char *name, const char *options, const char *command)
{
	CODE(hull("launch selwick/base --root %s --name %s --network none -q "
		  "%s -- sh -c '%s'",
		     root, name, options, command),
		0);
}

static json_t *shown(const char *name)
{
	char text[400];

	snprintf(text, sizeof(text), "%s --root %s", name, root);
	return hull_shown(text);
}

static void ended_with(const char *name, int code, const char *cause)
{
	json_t *doc = shown(name), *outcome = json_object_get(doc, "outcome");

	CHECK_TEXT(json_string_value(json_object_get(doc, "state")), "stopped");
	CHECK_INT(json_integer_value(json_object_get(
			  outcome, code > 128 ? "signal" : "exit-code")),
		code > 128 ? code - 128 : code);
	CHECK_TEXT(json_string_value(json_object_get(outcome, "cause")), cause);
	json_decref(doc);
}

/* It ends when it is told to. */
#define UNTIL_TOLD                                                             \
	"echo tide; trap \"exit 3\" USR1; while :; do sleep 0.02; done"

static bool has_ended(void *arg)
{
	json_t *doc = shown(arg);
	const char *state = json_string_value(json_object_get(doc, "state"));
	bool ended = state && strcmp(state, "stopped") == 0;

	json_decref(doc);
	return ended;
}

static void end_each(void)
{
	char three[] = "three";
	pid_t waiting = hull_start("waited", "wait three --root %s", root);

	CODE(hull("kill killed --root %s", root), 0);
	CODE(hull("stop stopped --root %s", root), 0);
	CODE(hull("kill --signal USR1 three --root %s", root), 0);
	CHECK_INT(wait_for(waiting), 3);
	CHECK(wait_until(has_ended, three));
}

static void check_ends(void)
{
	ended_with("three", 3, "ended");
	ended_with("stopped", 143, "stopped");
	ended_with("killed", 137, "sent-signal");
	SAYS(hull("why three --root %s", root)->out, "with exit code 3");
	CODE(hull("wait three --root %s", root), 3);
	SAYS(hull("logs three --root %s", root)->out, "tide");
	SAYS(hull("list --all --root %s", root)->out, "stopped: exit code 3");
	SAYS(hull("list --all --root %s", root)->out, "stopped: signal KILL");
}

static void launch_each(void)
{
	launch("three", "", UNTIL_TOLD);
	launch("stopped", "--restart always", "sleep 1000");
	launch("killed", "", "sleep 1000");
}

static void a_full_disk_changes_no_outcome(void)
{
	make_store();
	launch_each();
	launch("gone", "", "sleep 1000");
	fill();
	end_each();
	check_ends();
	CODE(hull("remove --force gone --root %s", root), 0);
	empty();
	check_ends();
	/* The stop holds. */
	hull("start --all-due --root %s", root);
	check_ends();
	CODE(hull("show gone --root %s", root), 3);
	SAYS(hull("timeline three --root %s", root)->out,
		"its process ended (exit code 3)");
	remove_store();
}

/* Another program keeps the database locked, for longer than anybody waits. */
static void a_locked_database_changes_no_outcome(void)
{
	sqlite3 *handle = NULL;
	char path[320];

	make_store();
	launch_each();
	snprintf(path, sizeof(path), "%s/state.db", root);
	CHECK_INT(sqlite3_open(path, &handle), SQLITE_OK);
	CHECK_INT(sqlite3_exec(handle, "BEGIN IMMEDIATE", NULL, NULL, NULL),
		SQLITE_OK);
	end_each();
	check_ends();
	CHECK_INT(
		sqlite3_exec(handle, "ROLLBACK", NULL, NULL, NULL), SQLITE_OK);
	sqlite3_close(handle);
	check_ends();
	CHECK_TEXT(hull("list --root %s", root)->err, "");
	remove_store();
}

/* As long as it lasts, the keeper is the only one that knows. */
static void an_end_that_stands_nowhere_is_kept(void)
{
	char three[] = "three";
	sqlite3 *handle = NULL;
	char path[320];

	make_store();
	launch("three", "", UNTIL_TOLD);
	snprintf(path, sizeof(path), "%s/state.db", root);
	CHECK_INT(sqlite3_open(path, &handle), SQLITE_OK);
	CHECK_INT(sqlite3_exec(handle, "BEGIN IMMEDIATE", NULL, NULL, NULL),
		SQLITE_OK);
	CODE(hull("kill --signal USR1 three --root %s", root), 0);
	CHECK(wait_until(has_ended, three));
	CODE(hull("wait three --root %s", root), 3);
	CODE(hull("stop three --root %s", root), 0);
	sqlite3_exec(handle, "ROLLBACK", NULL, NULL, NULL);
	sqlite3_close(handle);
	ended_with("three", 3, "ended");
	remove_store();
}

/* A keeper that is killed between the end and the state. */
static void a_keeper_killed_at_the_end_has_left_word(void)
{
	struct step step = {.program = "tidyhull-keeper"};
	int code = 0, told = 0;

	CODE(hull("pull selwick/base"), 0);
	while (hull_step(&step, &code,
		"run --keep selwick/base --name box --network none -- sh -c "
		"'exit 3'")) {
		struct result *result = hull("list --all");

		CHECK(code == 3 || code == 125 || code == 137 || code == 143);
		if (strstr(result->out, "exit code 3"))
			told++;
		if (code == 3)
			SAYS(result->out, "exit code 3");
		hull("remove --force box");
		step.number += step.number < 40 ? 8 : 1;
	}
	CHECK_INT(code, 3);
	CHECK(told > 2);
	CODE(hull("remove box"), 0);
}

/* As on a disk of which the kernel allows no more than reading. */
static struct result *hull_reading(const char *verb, const char *rest)
{
	return other("unshare -m sh -c 'mount --bind %s %s && mount -o "
		     "remount,ro,bind %s && cd / && exec %s/tidyhull %s --root "
		     "%s %s'",
		root, root, root, world_build, verb, root, rest);
}

static void a_read_only_store_is_read(void)
{
	struct result *result;

	/* Only root may make it so. */
	if (world_user)
		return;
	make_store();
	launch_each();
	launch("done", "", "exit 7");
	CODE(hull("wait done --root %s", root), 7);
	result = hull_reading("list", "--all");
	CODE(result, 0);
	SAYS(result->out, "stopped: exit code 7");
	SAYS(result->out, "running");
	SAYS(result->err, "cannot be written");
	SAYS(hull_reading("show", "three")->out, "running");
	SAYS(hull_reading("why", "done")->out, "with exit code 7");
	SAYS(hull_reading("logs", "three")->out, "tide");
	CODE(hull_reading("exec", "three -- true"), 0);
	CODE(hull_reading("wait", "done"), 7);
	CODE(hull_reading("kill", "--signal USR1 three"), 0);
	CODE(hull_reading("stop", "stopped"), 0);
	result = hull_reading("remove", "done");
	CODE(result, 1);
	SAYS(result->err, "cannot be written");
	result = hull_reading("launch", "selwick/base --network none -- true");
	CODE(result, 1);
	SAYS(result->err, "cannot be written");
	/* Without anybody who has the database open. */
	CODE(hull("stop --all --root %s", root), 0);
	SAYS(hull_reading("list", "--all")->out, "stopped: exit code 3");
	remove_store();
}

/* A command that may write nothing to the store. */
static struct result *hull_without_room(const char *line)
{
	return other("env QUOTA_FOLDER=%s LD_PRELOAD=%s/preload/quota.so "
		     "%s/tidyhull %s --root %s",
		root, world_build, world_build, line, root);
}

static void a_used_up_quota_is_told(void)
{
	struct result *result;

	snprintf(root, sizeof(root), "%s/store", world_folder);
	result = hull("unpack -q --root %s %s/demo-images", root, world_build);
	CODE(result, 0);
	launch("done", "", "exit 3");
	CODE(hull("wait done --root %s", root), 3);
	result = hull_without_room("pull selwick/base --config config.yaml");
	CODE(result, 1);
	SAYS(result->err, "your disk quota is used up");
	result = hull_without_room("launch selwick/base --network none");
	CODE(result, 1);
	SAYS(result->err, "your disk quota is used up");
	SAYS(result->err, "tidyhull sweep");
	SAYS(hull_without_room("list --all")->out, "exit code 3");
	/* What makes room needs none. */
	CODE(hull_without_room("remove done"), 0);
	CHECK(!strstr(hull("list --all --root %s", root)->out, "done"));
	CODE(hull("launch selwick/base --root %s --network none --name later "
		  "-- true",
		     root),
		0);
	CODE(hull("wait later --root %s", root), 0);
	CODE(hull("remove later --root %s", root), 0);
}

/* It cannot even get a tag of its own: what it has noted of the host is still
 * that of the store that it was copied from. */
static void a_copy_there_harms_nobody(void)
{
	char pid[16];

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	snprintf(pid, sizeof(pid), "%.15s", field("box", "pid"));
	CODE(as_root("sh -c 'mkdir %s/small && mount -t tmpfs -o size=16m "
		     "small "
		     "%s/small && cp -a %s %s/small/copy && dd if=/dev/zero "
		     "of=%s/small/filler bs=64k 2>/dev/null; true'",
		     world_folder, world_folder, world_store, world_folder,
		     world_folder),
		0);
	SAYS(hull("list --all --root %s/small/copy", world_folder)->out,
		"stopped: keeper lost");
	hull("remove --force box --root %s/small/copy", world_folder);
	CHECK_TEXT(field("box", "state"), "running");
	CHECK_TEXT(field("box", "pid"), pid);
	CODE(hull("exec box -- true"), 0);
	CODE(as_root("umount -l %s/small", world_folder), 0);
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"a copy there harms nobody", a_copy_there_harms_nobody},
	{"a full disk changes no outcome", a_full_disk_changes_no_outcome},
	{"a locked database changes no outcome",
		a_locked_database_changes_no_outcome},
	{"an end that stands nowhere is kept",
		an_end_that_stands_nowhere_is_kept},
	{"a keeper killed at the end has left word",
		a_keeper_killed_at_the_end_has_left_word},
	{"a read-only store is read", a_read_only_store_is_read},
	{"a used-up quota is told", a_used_up_quota_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_full = {"full", tests};
