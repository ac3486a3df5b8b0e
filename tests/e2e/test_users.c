/* User IDs of a container's own: its root is nobody on the host, and all files
 * look as if nothing were. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

#define FIRST 0x70000000u

static void launch_box(const char *name, const char *options)
{
	CODE(hull("launch selwick/base --name %s --network none %s -- sleep "
		  "1000",
		     name, options),
		0);
}

/* The host's ID of the user inside. */
static unsigned int host_id(const char *name)
{
	const char *at = strstr(
		other("cat /proc/%d/status", atoi(field(name, "pid")))->out,
		"Uid:");

	return at ? (unsigned int)strtoul(at + 4, NULL, 10) : 0;
}

static void root_is_nobody_outside(void)
{
	unsigned int one, two;

	launch_box("one", "");
	launch_box("two", "");
	one = host_id("one");
	two = host_id("two");
	CHECK(one >= FIRST && one % 65536 == 0);
	CHECK(two >= FIRST && two % 65536 == 0);
	CHECK(one != two);
	SAYS(hull("exec one -- id -u")->out, "0\n");
	SAYS(hull("exec one -- cat /proc/self/uid_map")->out, " 65536\n");
	SAYS(hull("exec one --user pilot -- id -un")->out, "pilot\n");
	SAYS(hull("processes one")->out, "root");
	/* After a restart, too; sessions and all. */
	CODE(hull("restart one --grace 0s"), 0);
	CHECK(host_id("one") >= FIRST);
	CODE(hull("exec one -- touch /made"), 0);
	SAYS(hull("exec one -- stat -c %%u:%%g /made")->out, "0:0\n");
	CODE(hull("remove --force one two"), 0);
	/* As it was: the host's. */
	launch_box("one", "--users host");
	CHECK_INT(host_id("one"), 0);
	CODE(hull("remove --force one"), 0);
}

static void files_keep_their_owners(void)
{
	struct stat st;
	char path[300];

	CODE(other("sh -c 'mkdir shared; echo x >shared/roots; cp "
		   "shared/roots shared/pilots; chown 1000:1000 "
		   "shared/pilots'"),
		0);
	launch_box("box", "--mount /shared=./shared --mount /kept=volume:kept");
	CHECK_TEXT(hull("exec box -- stat -c %%u /shared/roots /shared/pilots "
			"/etc")
			   ->out,
		"0\n1000\n0\n");
	CODE(hull("exec box -- sh -c 'touch /shared/new /kept/new; chown 7:8 "
		  "/kept/new'"),
		0);
	snprintf(path, sizeof(path), "%s/shared/new", world_folder);
	CHECK(stat(path, &st) == 0 && st.st_uid == 0);
	snprintf(path, sizeof(path), "%s/volumes/kept/data/new", world_store);
	CHECK(stat(path, &st) == 0 && st.st_uid == 7 && st.st_gid == 8);
	/* In and out, while it runs and while it does not. */
	for (int running = 1; running >= 0; running--) {
		CODE(hull("copy shared/pilots box:/tmp/in --owner keep"), 0);
		CODE(hull("copy shared/pilots box:/tmp/own"), 0);
		CODE(hull("copy box:/tmp/in out --owner keep"), 0);
		snprintf(path, sizeof(path), "%s/out", world_folder);
		CHECK(stat(path, &st) == 0 && st.st_uid == 1000);
		CODE(other("sh -c '%s/tidyhull copy box:/tmp - --root %s | tar "
			   "-tvf - --numeric-owner >list'",
			     world_build, world_store),
			0);
		CHECK(file_holds("list", "1000/1000"));
		CODE(hull("copy box:/etc/passwd out"), 0);
		CHECK(stat(path, &st) == 0 && st.st_uid == 0);
		if (running) {
			CHECK_TEXT(hull("exec box -- stat -c %%u /tmp/in "
					"/tmp/own")
					   ->out,
				"1000\n0\n");
			CODE(hull("stop box --grace 0s"), 0);
		}
	}
	CODE(hull("start box"), 0);
	CHECK_TEXT(hull("exec box -- stat -c %%u /tmp/in /tmp/own")->out,
		"1000\n0\n");
	CODE(hull("remove --force box"), 0);
	CODE(hull("remove volume:kept"), 0);
}

static void namespace_of(const char *name, char *text, size_t size)
{
	snprintf(text, size, "%.79s",
		hull("exec %s -- readlink /proc/self/ns/user", name)->out);
}

/* Also where they share IDs: what one of them may do counts for itself only. */
static void none_shares_a_namespace(void)
{
	char one[80], two[80], guest[80];

	CODE(hull("launch selwick/base --name one --network own -- sleep 1000"),
		0);
	launch_box("two", "");
	CODE(hull("launch selwick/base --name guest --network with:one -- "
		  "sleep 1000"),
		0);
	namespace_of("one", one, sizeof(one));
	namespace_of("two", two, sizeof(two));
	namespace_of("guest", guest, sizeof(guest));
	SAYS(one, "user:[");
	SAYS(two, "user:[");
	CHECK(strcmp(one, two) != 0);
	CHECK(strcmp(one, guest) != 0);
	CHECK(strcmp(two, guest) != 0);
	/* It may do what it could before: its own network, files and users. */
	CODE(hull("exec one -- sh -c 'touch /made && chown 7:8 /made && su -s "
		  "/bin/sh pilot -c id'"),
		0);
	CODE(hull("remove --force guest one two"), 0);
}

/* One that began before there were networks has another namespace outside. */
static void a_network_apart_is_told(void)
{
	struct result *result;

	launch_box("alone", "");
	result = hull("run selwick/base --network with:alone -- true");
	CODE(result, 125);
	SAYS(result->err, "started apart from your networks");
	SAYS(result->err, "recreate \"alone\" with --network own");
	CODE(hull("remove --force alone"), 0);
}

static void streams_open_by_name(void)
{
	CHECK_TEXT(hull("run selwick/base --network none --user pilot -- sh -c "
			"'echo tide >/dev/stdout; echo ebb >/dev/stderr'")
			   ->out,
		"tide\n");
	/* The tests' pipes are root's, and nothing a user may give away. */
	if (world_user)
		return;
	launch_box("box", "");
	CHECK_TEXT(hull("exec box --user pilot -- sh -c 'echo tide "
			">/dev/stdout'")
			   ->out,
		"tide\n");
	CODE(hull("remove --force box"), 0);
}

/* What belongs to the host has the host's IDs. */
static void what_is_the_hosts_is_told(void)
{
	struct result *result;

	result = hull("run selwick/base --network host --users own -- true");
	CODE(result, 125);
	SAYS(result->err, "the host's network cannot have user IDs of its own");
	SAYS(hull("run selwick/base --network none --users mine -- true")->err,
		"use own or host");
	SAYS(hull("run selwick/base --network host -- cat /proc/self/uid_map")
			->out,
		"4294967295");
	SAYS(hull("run selwick/base --network none --device /dev/fuse -- cat "
		  "/proc/self/uid_map")
			->out,
		"4294967295");
	SAYS(hull("run selwick/base --network none --capability +SYS_TIME -- "
		  "cat /proc/self/uid_map")
			->out,
		"4294967295");
}

/* An overlay cannot map IDs: then it is done without, and said so. */
static void a_file_system_that_cannot_is_told(void)
{
	struct result *result;

	CODE(other("mkdir low up work top"), 0);
	CODE(as_root("mount -t overlay -o lowerdir=%s/low,upperdir=%s/up,"
		     "workdir=%s/work none %s/top",
		     world_folder, world_folder, world_folder, world_folder),
		0);
	launch_box("box", "--mount /top=./top");
	CHECK_INT(host_id("box"), 0);
	SAYS(hull("timeline box")->out, "its user IDs are the host's: ");
	CODE(hull("exec box -- touch /top/new"), 0);
	CODE(hull("remove --force box"), 0);
	/* Nor has everybody a place in the range. */
	CODE(other("mkdir far"), 0);
	CODE(as_root("chown 3000000 %s/far", world_folder), 0);
	SAYS(hull("run selwick/base --network none --user 1000000 -- id")->out,
		"uid=1000000");
	SAYS(hull("run selwick/base --network none --mount /far=./far -- stat "
		  "-c %%u /far")
			->out,
		"3000000");
	result = hull("run selwick/base --network none --users own --mount "
		      "/top=./top -- true");
	CODE(result, 125);
	SAYS(result->err, "/top");
	SAYS(result->err, "--users host");
	CODE(as_root("umount %s/top", world_folder), 0);
}

static const CU_TestInfo tests[] = {
	{"root is nobody outside", root_is_nobody_outside},
	{"files keep their owners", files_keep_their_owners},
	{"none shares a namespace", none_shares_a_namespace},
	{"a network apart is told", a_network_apart_is_told},
	{"streams open by name", streams_open_by_name},
	{"what is the host's is told", what_is_the_hosts_is_told},
	{"a file system that cannot is told",
		a_file_system_that_cannot_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_users = {"users", tests};
