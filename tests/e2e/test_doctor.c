/* doctor --verify and --repair: what is damaged or gone is found, and mended as
 * far as it can be. */
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/random.h"
#include "e2e/harness.h"
#include "sandbox/cgroup.h"

static void is_well(void)
{
	struct result *result = hull("doctor --verify");

	CODE(result, 0);
	SAYS(result->out, "all is well");
}

static void make_some(void)
{
	CODE(hull("launch selwick/base --name done --network berths --mount "
		  "/data=volume:ledger -- sh -c 'echo high > /data/tide; echo "
		  "mine > /root/mine; exit 4'"),
		0);
	CODE(hull("wait done"), 4);
	CODE(hull("create selwick/base --name idle --network none --restart "
		  "on-failure,tries=3 -- true"),
		0);
	CODE(hull("launch selwick/gauge --name gauge --network none"), 0);
}

static void check_some(void)
{
	CHECK_TEXT(field("done", "outcome.exit-code"), "4");
	CHECK_TEXT(field("idle", "state"), "created");
	CHECK_TEXT(field("gauge", "state"), "running");
	SAYS(hull("show idle")->out, "on-failure,tries=3");
	CODE(hull("remove volume:ledger"), 4);
	CODE(hull("remove network:berths"), 4);
	CODE(hull("stop gauge"), 0);
	CODE(hull("start gauge"), 0);
	CODE(hull("exec gauge -- true"), 0);
	CODE(hull("start idle --attach"), 0);
	CODE(hull("start done --attach"), 4);
	CODE(hull("copy done:/root/mine mine"), 0);
	CHECK(file_holds("mine", "mine"));
	is_well();
}

static void remove_some(void)
{
	CODE(hull("remove --force done idle gauge volume:ledger "
		  "network:berths"),
		0);
	as_root("sh -c 'rm -f %s/state.db.damaged-*'", world_store);
}

static void a_damaged_database_is_made_anew(void)
{
	struct result *result;

	is_well();
	make_some();
	is_well();
	as_root("dd if=/dev/urandom of=%s/state.db bs=4096 count=8 "
		"conv=notrunc status=none",
		world_store);
	result = hull("list");
	CODE(result, 1);
	SAYS(result->err, "damaged");
	result = hull("doctor --verify");
	CODE(result, 1);
	SAYS(result->err, "doctor --repair");
	result = hull("doctor --repair");
	CODE(result, 0);
	SAYS(result->out, "it is kept as state.db.damaged-");
	SAYS(result->out, "all that was found is mended");
	check_some();
	remove_some();
}

/* While containers run; nobody is asked to repair anything. */
static void a_database_that_is_gone_is_told(void)
{
	struct result *result;

	make_some();
	as_root("sh -c 'rm %s/state.db %s/state.db-wal %s/state.db-shm'",
		world_store, world_store, world_store);
	result = hull("list");
	CODE(result, 0);
	SAYS(result->err, "state.db was gone");
	CODE(hull("doctor --verify"), 1);
	CODE(hull("doctor --repair"), 0);
	check_some();
	remove_some();
}

/* One byte of a program in an unpacked layer; and one file that is gone. */
static void a_damaged_layer_is_found(void)
{
	static const char *const damages[] = {
		"printf x | dd of=$f conv=notrunc bs=1 seek=1000 status=none",
		"truncate -s 1000 $f", "rm $f", "rm $f; mkdir $f",
		"rm $f; mkfifo $f"};

	for (size_t i = 0; i < COUNT_OF(damages); i++) {
		struct result *result;

		CODE(hull("pull selwick/base"), 0);
		CODE(hull("doctor --verify"), 0);
		CODE(as_root("sh -c 'f=$(ls %s/trees/*/bin/busybox | head -1); "
			     "%s'",
			     world_store, damages[i]),
			0);
		result = hull("doctor --verify");
		CODE(result, 1);
		SAYS(result->out, "not as in its archive");
		SAYS(result->out, "/bin/busybox");
		CODE(hull("remove selwick/base"), 0);
	}
}

static bool no_groups(void *arg)
{
	(void)arg;
	return world_groups() == 0;
}

static void what_is_missing_is_found(void)
{
	char id[64];
	json_t *doc;

	make_some();
	snprintf(id, sizeof(id), "%s", field("idle", "id"));
	as_root("rm -rf %s/containers/%s %s/volumes/ledger", world_store, id,
		world_store);
	as_root("touch %s/run/abcdefghjkmn.lock", world_store);
	doc = hull_json("doctor --verify --json");
	CHECK_INT(json_array_size(json_object_get(doc, "findings")), 3);
	CHECK(json_is_false(json_object_get(doc, "whole")));
	json_decref(doc);
	/* A look changes nothing. */
	CODE(hull("doctor --verify"), 1);
	CODE(hull("doctor --repair"), 0);
	is_well();
	CODE(hull("show idle"), 3);
	/* Its container has it still, and it is empty. */
	CODE(hull("start done --attach"), 4);
	CODE(hull("remove --force done gauge volume:ledger network:berths"), 0);
}

/* The group of a container of which nothing is left, and then the store's own,
 * which is empty. */
static void groups_that_are_left_go(void)
{
	char group[300], owner[40] = "";

	if (!th_cgroup_mount() || (world_user && !world_group[0]))
		return;
	make_some();
	snprintf(group, sizeof(group), "%.250s",
		as_root("sh -c 'find %s -type d -name %s'",
			world_user ? world_group : th_cgroup_mount(),
			field("gauge", "id"))
			->out);
	group[strcspn(group, "\n")] = '\0';
	CHECK(group[0] == '/');
	if (world_user)
		snprintf(owner, sizeof(owner), "-o %u", world_user);
	remove_some();
	CHECK(wait_until(no_groups, NULL));
	memcpy(strrchr(group, '/') + 1, "abcdefghjkmn", TH_ID_LENGTH);
	CODE(as_root("install -d %s %s", owner, group), 0);
	CODE(as_root("sh -c 'chown %u $(dirname %s)'", world_user, group), 0);
	CODE(hull("list"), 0);
	CHECK_INT(world_groups(), 0);
	*strrchr(group, '/') = '\0';
	CODE(as_root("install -d %s %s", owner, group), 0);
	CODE(hull("list"), 0);
	CHECK_INT(world_groups(), 0);
}

/* As long as the keeper of a container that is removed already. */
static pid_t hold_lock(int milliseconds)
{
	struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
	char path[256];
	pid_t pid;
	int fd;

	snprintf(path, sizeof(path), "%s/run/abcdefghjkmn.lock", world_store);
	CODE(other("touch %s", path), 0);
	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		fd = open(path, O_RDWR | O_CLOEXEC);
		if (fd < 0 || fcntl(fd, F_SETLK, &lock))
			_exit(1);
		poll(NULL, 0, milliseconds);
		_exit(0);
	}
	return pid;
}

/* A container's row goes a moment before its keeper does. */
static void a_keeper_that_is_ending_is_no_finding(void)
{
	char path[256];
	struct result *result;
	pid_t pid;

	CODE(hull("list"), 0);
	snprintf(path, sizeof(path), "%s/run/abcdefghjkmn.lock", world_store);
	pid = hold_lock(400);
	CHECK(wait_until(is_held, path));
	result = hull("doctor --verify");
	CODE(result, 0);
	CHECK_INT(wait_for(pid), 0);
	/* One that stays is. */
	pid = hold_lock(60000);
	CHECK(wait_until(is_held, path));
	result = hull("doctor --verify");
	CHECK(result->code != 0);
	SAYS(result->out, "its keeper runs, and the state does not know it");
	signal_to(pid, SIGKILL);
	CHECK_INT(wait_for(pid), 137);
	CODE(other("rm %s", path), 0);
}

static void a_damaged_blob_is_fetched_anew(void)
{
	struct result *result;

	CODE(hull("pull selwick/base"), 0);
	as_root("sh -c 'cd %s/images/blobs/sha256 && printf x | dd of=$(ls -S "
		"| "
		"head -1) conv=notrunc bs=1 seek=100 status=none'",
		world_store);
	result = hull("doctor --verify");
	CODE(result, 1);
	SAYS(result->out, "is damaged");
	CODE(hull("doctor --repair"), 0);
	result = hull("doctor --verify");
	CODE(result, 1);
	SAYS(result->out, "is missing");
	CODE(hull("remove selwick/base"), 0);
	CODE(hull("pull selwick/base"), 0);
	is_well();
}

static const CU_TestInfo tests[] = {
	{"a damaged database is made anew", a_damaged_database_is_made_anew},
	{"a database that is gone is told", a_database_that_is_gone_is_told},
	{"a damaged layer is found", a_damaged_layer_is_found},
	{"groups that are left go", groups_that_are_left_go},
	{"a keeper that is ending is no finding",
		a_keeper_that_is_ending_is_no_finding},
	{"what is missing is found", what_is_missing_is_found},
	{"a damaged blob is fetched anew", a_damaged_blob_is_fetched_anew},
	CU_TEST_INFO_NULL};

const struct suite suite_doctor = {"doctor", tests};
