/* In a job of a batch engine: its control groups, made as the engine makes
 * them, hold what is started there. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/bus.h"
#include "e2e/harness.h"

static char top[64]; /* of the hierarchy that the engine keeps */
static char place[128]; /* of the task, below it */
static unsigned long job;

/* Names of their own: groups are the whole host's. */
static void begin_job(void)
{
	bool old = access("/sys/fs/cgroup/memory", F_OK) == 0;
	struct stat st;

	stat(world_folder, &st);
	job = (unsigned long)st.st_ino;

	snprintf(top, sizeof(top), "/sys/fs/cgroup%s", old ? "/memory" : "");
	snprintf(place, sizeof(place), "/slurm/uid_%d/job_%lu/step_0/task_0",
		(int)world_user, job);
	CODE(as_root("mkdir -p %s%s", top, place), 0);
	CODE(as_root("chown %d %s%s/cgroup.procs", (int)world_user, top, place),
		0);
	/* Version 2 hands it on from level to level. */
	if (!old)
		CODE(as_root("sh -c 'cd %s; for one in . slurm slurm/uid_%d "
			     "slurm/uid_%d/job_%lu "
			     "slurm/uid_%d/job_%lu/step_0; "
			     "do echo +memory >$one/cgroup.subtree_control; "
			     "done'",
			     top, (int)world_user, (int)world_user, job,
			     (int)world_user, job),
			0);
	CODE(as_root("sh -c 'echo 100M >%s/slurm/uid_%d/job_%lu/%s'", top,
		     (int)world_user, job,
		     old ? "memory.limit_in_bytes" : "memory.max"),
		0);
}

static bool is_removed(void *path)
{
	return as_root("rmdir %s", (const char *)path)->code == 0;
}

/* As the engine does it: its own folders, once the last process has gone. */
static void end_job(void)
{
	char path[256];

	snprintf(path, sizeof(path), "%s%s", top, place);
	CHECK(wait_until(is_removed, path));
	for (int i = 0; i < 2; i++) {
		*strrchr(path, '/') = '\0';
		CHECK(is_removed(path));
	}
	CHECK_TEXT(
		as_root("find /sys/fs/cgroup -path *job_%lu*", job)->out, "");
	/* Other jobs may be in these. */
	as_root("rmdir %s/slurm/uid_%d %s/slurm", top, (int)world_user, top);
}

/* tidyhull, started by the job's task. */
static struct result *in_job(const char *line)
{
	return other("sh -c 'echo $$ >%s%s/cgroup.procs && exec %s/tidyhull "
		     "%s'",
		top, place, world_build, line);
}

static const char *group_of(const char *name)
{
	return as_root("cat /proc/%s/cgroup", field(name, "pid"))->out;
}

static void containers_stay_in_it(void)
{
	struct result *result;

	begin_job();
	result = in_job("launch selwick/base --name box --network none -- "
			"sleep 1000");
	CODE(result, 0);
	SAYS(group_of("box"), place);
	/* From outside of it all is as ever. */
	CODE(hull("exec box -- true"), 0);
	SAYS(hull("processes box")->out, "sleep 1000");
	if (!world_user) {
		CODE(hull("pause box"), 0);
		CODE(hull("resume box"), 0);
	}
	CODE(hull("meter --once box"), 0);
	/* The end of the job kills what is in its groups: the keeper is. */
	kill_keeper("box");
	SAYS(hull("list --all")->out, "keeper lost");
	CODE(hull("remove box"), 0);
	end_job();
}

/* Root may set one, with version 1; the job's holds for it all the same. */
static void a_limit_beyond_it_is_told(void)
{
	bool old = access("/sys/fs/cgroup/memory", F_OK) == 0;
	struct result *result;

	begin_job();
	result = in_job("run selwick/base --network none --limit memory=1G -- "
			"true");
	SAYS(result->err, "allow 100M of memory in all");
	CODE(result, old ? 0 : 125);
	result = in_job("run selwick/base --network none --limit memory=20M -- "
			"true");
	if (old) {
		CODE(result, 0);
		CHECK_TEXT(result->err, "");
	} else {
		CODE(result, 125);
		SAYS(result->err, "in a job's control group of version 2");
	}
	end_job();
}

/* It would be outside of the job. */
static void no_scope_is_asked_for(void)
{
	begin_job();
	bus_begin("");
	CODE(in_job("launch selwick/base --name box --network none -- sleep "
		    "1000"),
		0);
	SAYS(group_of("box"), place);
	CHECK(!strstr(group_of("box"), ".scope"));
	CODE(hull("remove --force box"), 0);
	bus_end();
	end_job();
}

/* The engine looks when the task's own process has ended, and not again for a
 * second. */
static void nothing_is_left_behind_a_run(void)
{
	struct result *result;

	begin_job();
	for (int i = 0; i < 10; i++) {
		result = in_job("run selwick/base --network none -- true");
		CODE(result, 0);
		CHECK_TEXT(
			as_root("cat %s%s/cgroup.procs", top, place)->out, "");
	}
	end_job();
}

/* The engine has the freezer for itself, one level up, and version 2 is not
 * there: the groups that can be had hold the container. */
static void without_the_freezer(void)
{
	const char *freezer = "/sys/fs/cgroup/freezer";
	struct result *result;
	char step[200];

	if (world_user || access(freezer, F_OK))
		return;
	begin_job();
	snprintf(step, sizeof(step), "%s%.*s", freezer,
		(int)(strrchr(place, '/') - place), place);
	CODE(as_root("mkdir -p %s", step), 0);
	result = other("unshare --mount sh -c 'mount -t tmpfs none "
		       "/sys/fs/cgroup/unified; echo $$ >%s/cgroup.procs; echo "
		       "$$ >%s%s/cgroup.procs; exec %s/tidyhull run "
		       "selwick/base --network none  -- cat "
		       "/proc/self/cgroup'",
		step, top, place, world_build);
	CODE(result, 0);
	CHECK(wait_until(is_removed, step));
	for (int i = 0; i < 2; i++) {
		*strrchr(step, '/') = '\0';
		CHECK(is_removed(step));
	}
	end_job();
}

static const CU_TestInfo tests[] = {
	{"containers stay in it", containers_stay_in_it},
	{"a limit beyond it is told", a_limit_beyond_it_is_told},
	{"no scope is asked for", no_scope_is_asked_for},
	{"nothing is left behind a run", nothing_is_left_behind_a_run},
	{"without the freezer", without_the_freezer}, CU_TEST_INFO_NULL};

const struct suite suite_job = {"job", tests};
