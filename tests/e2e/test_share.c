/* What batch work has of its caller: environment, scratch folder, and what
 * ranks of one job talk by. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static struct result *run_with(
	const char *env, const char *share, const char *line)
{
	return other("env %s %s/tidyhull run selwick/base --network none "
		     "--share %s --root %s --config config.yaml -- sh -c '%s'",
		env, world_build, share, world_store, line);
}

static void the_environment_is_passed_on(void)
{
	struct result *result = run_with("JOB_RANK=3 LD_TRICK=x TIDYHULL_X=y "
					 "HOME=/nowhere",
		"env",
		"echo $JOB_RANK; env | grep -c -e TRICK -e TIDYHULL; echo "
		"$HOME; echo $PATH");

	CODE(result, 0);
	SAYS(result->out, "3\n0\n/root\n/usr/local/sbin:");
	/* What is given by hand wins, and nobody is shown the others. */
	CODE(other("env JOB_RANK=3 %s/tidyhull create selwick/base --name box "
		   "--share env --env JOB_RANK=4 --root %s --config "
		   "config.yaml -- true",
		     world_build, world_store),
		0);
	result = hull("show box");
	CHECK(!strstr(result->out, "JOB_RANK=3"));
	CODE(hull("remove box"), 0);
	SAYS(run_with("JOB_RANK=3", "env", "echo =$JOB_RANK=")->out, "=3=");
	CHECK(!strstr(
		run_with("JOB_RANK=3", "cwd", "echo =$JOB_RANK=")->out, "3"));
}

static void the_scratch_folder_is_where_it_was(void)
{
	struct result *result;
	char env[300];

	CODE(other("mkdir scratch"), 0);
	snprintf(env, sizeof(env), "TMPDIR=%s/scratch", world_folder);
	CODE(run_with(env, "scratch", "echo kept >$TMPDIR/tide"), 0);
	CHECK(file_holds("scratch/tide", "kept"));
	result = run_with("-u TMPDIR", "scratch", "true");
	CODE(result, 125);
	SAYS(result->err, "TMPDIR does not name a scratch folder");
}

static void ranks_talk_by_shared_memory(void)
{
	char name[60], line[160], here[80];

	snprintf(name, sizeof(name), "/dev/shm/hull-%d", (int)getpid());
	snprintf(line, sizeof(line), "echo inside >%s", name);
	CODE(run_with("A=1", "shm", line), 0);
	SAYS(other("cat %s", name)->out, "inside");
	CODE(other("rm %s", name), 0);
	CODE(run_with("A=1", "cwd", line), 0);
	CHECK(access(name, F_OK) != 0);
	snprintf(here, sizeof(here), "%.60s",
		other("readlink /proc/self/ns/ipc")->out);
	SAYS(run_with("A=1", "shm,ipc", "readlink /proc/self/ns/ipc")->out,
		here);
	CHECK(strcmp(run_with("A=1", "shm", "readlink /proc/self/ns/ipc")->out,
		      here) != 0);
}

static void ranks_meet_their_manager(void)
{
	struct result *result;
	char env[300];
	int first;

	CODE(other("mkdir -p meeting"), 0);
	CODE(other("sh -c 'echo here >meeting/place'"), 0);
	snprintf(env, sizeof(env), "PMIX_SERVER_TMPDIR=%s/meeting",
		world_folder);
	result = run_with(env, "env,pmix",
		"echo $$; echo $PPID; cat $PMIX_SERVER_TMPDIR/place");
	CODE(result, 0);
	SAYS(result->out, "\n1\nhere\n");
	/* No rank has the ID of another, as all would have in namespaces of
	 * their own. */
	first = atoi(result->out);
	CHECK(first > 2);
	result = run_with(env, "pmix", "echo $$");
	CHECK(atoi(result->out) > 2 && atoi(result->out) != first);
	CHECK(atoi(run_with(env, "env", "echo $$")->out) == 2);
	/* Its signals reach it as ever. */
	CODE(run_with(env, "pmix", "trap \"exit 7\" TERM; kill $$; sleep 9"),
		7);
	result = run_with("-u PMIX_SERVER_TMPDIR", "pmix", "true");
	CODE(result, 125);
	SAYS(result->err, "PMIX_SERVER_TMPDIR does not name the folder");
	result = run_with(env, "pmix --reaper no", "true");
	CODE(result, 125);
	SAYS(result->err, "cannot be the first process");
}

static const CU_TestInfo tests[] = {
	{"the environment is passed on", the_environment_is_passed_on},
	{"the scratch folder", the_scratch_folder_is_where_it_was},
	{"ranks talk by shared memory", ranks_talk_by_shared_memory},
	{"ranks meet their manager", ranks_meet_their_manager},
	CU_TEST_INFO_NULL};

const struct suite suite_share = {"share", tests};
