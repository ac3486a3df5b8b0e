/* The sentences with MUST of the OCI Runtime Specification, 1.0.2 to 1.2, one
 * by one, each with its check. Mounts are shared here, as on most hosts. (What
 * each field does: test_bundle.c. What an engine sees: test_runtime.c.) */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/bundles.h"
#include "e2e/harness.h"

enum kind {
	RUNS, /* it runs, and the command's output holds the text */
	REFUSED, /* create is an error with the text, and leaves nothing */
	REFUSED_AT_START, /* start is, and the container is left created */
	CHECKED /* by a function */
};

struct must {
	const char *where;
	const char *sentence;
	enum kind kind;
	const char *patch; /* of the plain bundle */
	const char *command;
	const char *text; /* with "!" before it: must not be there */
	void (*check)(void);
	bool root; /* it takes root to ask for */
};

static struct result *oci(const char *line)
{
	return hull("oci %s --root %s/oci", line, world_folder);
}

static int create(void)
{
	return wait_for(hull_start("seen",
		"oci create --root %s/oci --bundle %s/bundle --pid-file "
		"%s/pid --log %s/log box",
		world_folder, world_folder, world_folder, world_folder));
}

static bool is_stopped(void *arg)
{
	(void)arg;
	return strstr(oci("state box")->out, "\"stopped\"") != NULL;
}

static const char *seen(void)
{
	return other("cat %s/seen", world_folder)->out;
}

static void run_to_the_end(void)
{
	CHECK_INT(create(), 0);
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static void end_it(void)
{
	CODE(oci("delete --force box"), 0);
}

static bool holds(const char *text, const char *wanted)
{
	bool there = strstr(text, wanted + (*wanted == '!')) != NULL;

	return there != (*wanted == '!');
}

/* ---- checks by hand ---- */

static void the_name_is_config_json(void)
{
	bundle_write("", "true");
	other("mv %s/bundle/config.json %s/bundle/Config.json", world_folder,
		world_folder);
	CHECK(create() != 0);
	CODE(oci("state box"), 3);
}

static void ids_are_unique(void)
{
	struct result *result;

	bundle_write("", "sleep 1000");
	CHECK_INT(create(), 0);
	result = hull("oci create --root %s/oci --bundle %s/bundle box",
		world_folder, world_folder);
	CODE(result, 4);
	SAYS(oci("state box")->out, "\"created\"");
	end_it();
	/* "Once a container is deleted its ID MAY be used". */
	CHECK_INT(create(), 0);
	end_it();
}

static void wrong_ids_are_errors(void)
{
	static const char *const ids[] = {
		"../up", "a/b", ".", "..", "-x", "'a b'", "@"};

	bundle_write("", "true");
	for (size_t i = 0; i < COUNT_OF(ids); i++)
		CODE(hull("oci create --root %s/oci --bundle %s/bundle -- %s",
			     world_folder, world_folder, ids[i]),
			2);
	CHECK_TEXT(other("sh -c 'ls %s/oci 2>/dev/null | grep -v lock'",
			   world_folder)
			   ->out,
		"");
}

static void every_operation_needs_an_id(void)
{
	static const char *const operations[] = {
		"create", "start", "state", "kill", "delete"};

	for (size_t i = 0; i < COUNT_OF(operations); i++)
		CODE(oci(operations[i]), 2);
	for (size_t i = 1; i < COUNT_OF(operations); i++) {
		char line[40];

		snprintf(line, sizeof(line), "%s nobody", operations[i]);
		CODE(oci(line), 3);
	}
}

static void the_state_has_what_it_must(void)
{
	json_t *state;
	char bundle[200];

	bundle_write("{\"annotations\":{\"org.selwick.berth\":\"7\"}}",
		"sleep 1000");
	CHECK_INT(create(), 0);
	snprintf(bundle, sizeof(bundle), "%s/bundle", world_folder);
	for (int running = 0; running < 2; running++) {
		state = json_loads(oci("state box")->out, 0, NULL);
		CHECK_TEXT(
			json_string_value(json_object_get(state, "ociVersion")),
			"1.0.2");
		CHECK_TEXT(
			json_string_value(json_object_get(state, "id")), "box");
		CHECK_TEXT(json_string_value(json_object_get(state, "status")),
			running ? "running" : "created");
		CHECK(json_integer_value(json_object_get(state, "pid")) > 1);
		CHECK_TEXT(json_string_value(json_object_get(state, "bundle")),
			bundle);
		json_decref(state);
		if (!running)
			CODE(oci("start box"), 0);
	}
	CODE(oci("kill box KILL"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static void the_program_waits_for_start(void)
{
	bundle_write("", "echo ran > /ran");
	CHECK_INT(create(), 0);
	CODE(other("test -e %s/ran", bundle_rootfs), 1);
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(other("test -e %s/ran", bundle_rootfs), 0);
	CODE(oci("delete box"), 0);
	other("rm %s/ran", bundle_rootfs);
}

static void later_changes_do_not_matter(void)
{
	bundle_write("", "echo first");
	CHECK_INT(create(), 0);
	bundle_write("{\"process\":{\"cwd\":\"/nosuch\"}}", "echo second");
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
	CHECK_TEXT(seen(), "first\n");
}

static void only_the_created_start(void)
{
	char pid[32];

	bundle_write("", "sleep 1000");
	CHECK_INT(create(), 0);
	CODE(oci("start box"), 0);
	snprintf(pid, sizeof(pid), "%.31s",
		other("cat %s/pid", world_folder)->out);
	CODE(oci("start box"), 4);
	SAYS(oci("state box")->out, "\"running\"");
	SAYS(oci("state box")->out, pid);
	CODE(oci("kill box KILL"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("start box"), 4);
	SAYS(oci("state box")->out, "\"stopped\"");
	CODE(oci("kill box KILL"), 4);
	CODE(oci("delete box"), 0);
}

static void only_the_stopped_are_deleted(void)
{
	bundle_write("", "sleep 1000");
	CHECK_INT(create(), 0);
	CODE(oci("delete box"), 4);
	SAYS(oci("state box")->out, "\"created\"");
	CODE(oci("start box"), 0);
	CODE(oci("delete box"), 4);
	SAYS(oci("state box")->out, "\"running\"");
	end_it();
}

static bool has_heard(void *arg)
{
	(void)arg;
	return strstr(seen(), "heard") != NULL;
}

static bool is_ready(void *arg)
{
	(void)arg;
	return strstr(seen(), "ready") != NULL;
}

static void a_signal_arrives(void)
{
	bundle_write("",
		"trap 'echo heard' USR1; echo ready; while :; do "
		"sleep 0.02; done");
	CHECK_INT(create(), 0);
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_ready, NULL));
	CODE(oci("kill box USR1"), 0);
	CHECK(wait_until(has_heard, NULL));
	CODE(oci("kill box 9"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
	/* One that waits for its start can be ended, too. */
	bundle_write("", "true");
	CHECK_INT(create(), 0);
	CODE(oci("kill box KILL"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static int count_mounts(void)
{
	return atoi(other("sh -c 'wc -l < /proc/self/mountinfo'")->out);
}

/* Also by a creation that fails: "as if the operation were never attempted". */
static void deletion_takes_all_back(void)
{
	int before = count_mounts();
	char group[120];

	snprintf(group, sizeof(group), "/sys/fs/cgroup/%s/%s",
		access("/sys/fs/cgroup/unified", F_OK) == 0 ? "unified" : ".",
		bundle_tag());
	for (int fails = 0; fails < 2; fails++) {
		bundle_write(fails ? "{\"linux\":{\"cgroupsPath\":"
				     "\"/~/box\"},\"+mounts\":[{"
				     "\"destination\":\"/x\",\"type\":"
				     "\"tmpfs\"},{\"destination\":\"/y\","
				     "\"type\":\"tidefs\"}]}"
				   : "{\"linux\":{\"cgroupsPath\":"
				     "\"/~/box\"},\"+mounts\":[{"
				     "\"destination\":\"/x\",\"type\":"
				     "\"tmpfs\"}]}",
			"true");
		CHECK_INT(create() != 0, fails);
		if (!fails) {
			CODE(oci("start box"), 0);
			CHECK(wait_until(is_stopped, NULL));
			CODE(oci("delete box"), 0);
		}
		CODE(oci("state box"), 3);
		CHECK_INT(count_mounts(), before);
		if (!world_user)
			CHECK(access(group, F_OK) != 0);
	}
}

static const char hook_form[] =
	"{\"hooks\":{\"%s\":[{\"path\":\"/bin/sh\",\"args\":[\"sh\",\"-c\","
	"\"%s\"],\"env\":[\"PATH=/bin:/usr/bin\"]},{\"path\":\"/bin/sh\","
	"\"args\":[\"sh\",\"-c\",\"%s\"],\"env\":[\"PATH=/bin:/usr/bin\"]}]}}";

static void write_hooks(const char *kind, const char *first, const char *second)
{
	char patch[2000];

	snprintf(patch, sizeof(patch), hook_form, kind, first, second);
	bundle_write(patch, "sleep 1000");
}

static void hooks_that_fail_end_it(void)
{
	static const char *const kinds[] = {
		"prestart", "createRuntime", "createContainer"};

	for (size_t i = 0; i < COUNT_OF(kinds); i++) {
		write_hooks(kinds[i], "exit 3", "echo late > @/late");
		CHECK(create() != 0);
		SAYS(seen(), kinds[i]);
		CODE(oci("state box"), 3);
		CODE(other("test -e %s/late", world_folder), 1);
	}
	/* At the start: it is stopped, and can be deleted. */
	write_hooks("startContainer", "exit 3", "true");
	CHECK_INT(create(), 0);
	CHECK(oci("start box")->code != 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static void later_hooks_that_fail_are_warnings(void)
{
	write_hooks("poststart", "exit 3", "echo second > @/after");
	CHECK_INT(create(), 0);
	CODE(hull("oci start box --root %s/oci --log %s/log", world_folder,
		     world_folder),
		0);
	SAYS(oci("state box")->out, "\"running\"");
	CODE(other("test -e %s/after", world_folder), 0);
	CHECK(file_holds("log", "\"level\":\"warning\""));
	CHECK(file_holds("log", "poststart"));
	end_it();
	other("rm %s/after", world_folder);
	write_hooks("poststop", "exit 3", "echo second > @/after");
	CHECK_INT(create(), 0);
	CODE(hull("oci delete --force box --root %s/oci --log %s/log",
		     world_folder, world_folder),
		0);
	CODE(other("test -e %s/after", world_folder), 0);
	CHECK(file_holds("log", "poststop"));
	CODE(oci("state box"), 3);
	other("rm %s/after", world_folder);
}

/* Each sees its place: the host's name or the container's, and the root. */
static void hooks_run_where_they_must(void)
{
	static const struct {
		const char *kind;
		bool inside; /* in the container's namespaces */
		const char *status;
	} cases[] = {{"prestart", false, "creating"},
		{"createRuntime", false, "creating"},
		{"createContainer", true, "creating"},
		{"startContainer", true, "created"},
		{"poststart", false, "running"},
		{"poststop", false, "stopped"}};
	char own[64];

	snprintf(own, sizeof(own), "%.63s",
		other("readlink /proc/self/ns/uts")->out);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		bool last = strcmp(cases[i].kind, "startContainer") == 0;
		char text[4000];

		/* Its path is found inside at the end, and outside before. */
		write_hooks(cases[i].kind,
			last ? "cat > /told; readlink /proc/self/ns/uts >> "
			       "/told"
			     : "cat > @/told; readlink /proc/self/ns/uts >> "
			       "@/told",
			last ? "echo two >> /told" : "echo two >> @/told");
		CHECK_INT(create(), 0);
		CODE(oci("start box"), 0);
		end_it();
		snprintf(text, sizeof(text), "%.3999s",
			other("cat %s/told",
				last ? bundle_rootfs : world_folder)
				->out);
		SAYS(text, "\"id\":\"box\"");
		SAYS(text, cases[i].status);
		CHECK((strstr(text, "\"pid\":") != NULL) ==
			(strcmp(cases[i].status, "stopped") != 0));
		SAYS(text, "two\n");
		if ((strstr(text, own) == NULL) != cases[i].inside) {
			printf("\n    %s: %s\n", cases[i].kind, text);
			CU_FAIL("a hook ran in the wrong place");
		}
		other("rm %s/told", last ? bundle_rootfs : world_folder);
	}
}

/* Unset: what the caller has. */
static void an_unset_score_is_the_callers(void)
{
	char line[1400];

	bundle_write("", "cat /proc/self/oom_score_adj");
	snprintf(line, sizeof(line),
		"sh -c 'echo 321 > /proc/self/oom_score_adj; "
		"TIDYHULL_ROOT=%s exec %s/tidyhull oci create --root %s/oci "
		"--bundle %s/bundle box > %s/seen 2>&1 < /dev/null'",
		world_store, world_build, world_folder, world_folder,
		world_folder);
	as_root("chmod 666 %s/seen", world_folder);
	CODE(other("%s", line), 0);
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
	CHECK_TEXT(seen(), "321\n");
}

static void the_same_path_is_the_same_group(void)
{
	char first[300];

	for (int time = 0; time < 2; time++) {
		bundle_write("{\"linux\":{\"cgroupsPath\":\"/~/"
			     "box\"}}",
			"sleep 1000");
		CHECK_INT(create(), 0);
		if (!time)
			snprintf(first, sizeof(first), "%.299s",
				as_root("sh -c 'grep ^0: /proc/$(cat "
					"%s/pid)/cgroup'",
					world_folder)
					->out);
		else
			CHECK_TEXT(as_root("sh -c 'grep ^0: /proc/$(cat "
					   "%s/pid)/cgroup'",
					   world_folder)
					   ->out,
				first);
		end_it();
	}
	SAYS(first, bundle_tag());
}

static void the_root_is_shared_here(void)
{
	SAYS(other("grep ' / / ' /proc/self/mountinfo")->out, "shared:");
}

/* Every word that "Linux mount options" lists for mounts of any kind. */
static void all_mount_options_are_known(void)
{
	static const char *const words[] = {"async", "atime", "defaults", "dev",
		"diratime", "dirsync", "exec", "iversion", "lazytime", "loud",
		"noatime", "nodev", "nodiratime", "noexec", "noiversion",
		"nolazytime", "norelatime", "nostrictatime", "nosuid",
		"nosymfollow", "private", "ratime", "rdev", "rdiratime",
		"relatime", "rexec", "rnoatime", "rnodev", "rnodiratime",
		"rnoexec", "rnorelatime", "rnostrictatime", "rnosuid",
		"rnosymfollow", "ro", "rprivate", "rrelatime", "rro", "rrw",
		"rshared", "rslave", "rstrictatime", "rsuid", "rsymfollow",
		"runbindable", "rw", "shared", "silent", "slave", "strictatime",
		"suid", "symfollow", "sync", "tmpcopyup", "unbindable", "mand",
		"nomand"};

	for (size_t i = 0; i < COUNT_OF(words); i++) {
		char patch[300];
		int code;

		snprintf(patch, sizeof(patch),
			"{\"+mounts\":[{\"destination\":\"/x\",\"type\":"
			"\"tmpfs\",\"source\":\"x\",\"options\":[\"%s\"]}]}",
			words[i]);
		bundle_write(patch, "grep -q ' /x ' /proc/mounts && echo is");
		code = create();
		if (code) {
			printf("\n    %s: %s\n", words[i], seen());
			CU_FAIL("a mount option is not known");
			continue;
		}
		CODE(oci("start box"), 0);
		CHECK(wait_until(is_stopped, NULL));
		CODE(oci("delete box"), 0);
		CHECK_TEXT(seen(), "is\n");
	}
}

static void the_features_have_what_they_must(void)
{
	json_t *doc = json_loads(oci("features")->out, 0, NULL);

	CHECK(json_is_string(json_object_get(doc, "ociVersionMin")));
	CHECK(json_is_string(json_object_get(doc, "ociVersionMax")));
	json_decref(doc);
}

#define NS(more) "{\"linux\":{\"+namespaces\":[" more "]}}"
#define MOUNT(text) "{\"+mounts\":[{" text "}]}"
#define PROCESS(text) "{\"process\":{" text "}}"
#define FILTER(text) "{\"linux\":{\"seccomp\":{" text "}}}"
#define LIMIT(text) "{\"linux\":{\"resources\":{" text "}}}"

static const struct must musts[] = {
	/* bundle.md */
	{"bundle",
		"config.json MUST reside in the root of the bundle directory "
		"and MUST be named config.json",
		CHECKED, NULL, NULL, NULL, the_name_is_config_json, false},
	/* runtime.md */
	{"runtime: state",
		"id MUST be unique; an ID that is not: an error, and "
		"a new container MUST NOT be created",
		CHECKED, NULL, NULL, NULL, ids_are_unique, false},
	{"runtime: create",
		"an ID that is not valid MUST be an error, and a "
		"new container MUST NOT be created",
		CHECKED, NULL, NULL, NULL, wrong_ids_are_errors, false},
	{"runtime: operations",
		"each MUST generate an error if it is not "
		"provided the ID, or one that does not exist",
		CHECKED, NULL, NULL, NULL, every_operation_needs_an_id, false},
	{"runtime: state",
		"the state MUST be returned as specified: "
		"ociVersion, id, status, pid, bundle",
		CHECKED, NULL, NULL, NULL, the_state_has_what_it_must, false},
	{"runtime: lifecycle 2",
		"the user-specified program MUST NOT be run "
		"at this time",
		CHECKED, NULL, NULL, NULL, the_program_waits_for_start, false},
	{"runtime: lifecycle 2",
		"updates to config.json after this step MUST "
		"NOT affect the container",
		CHECKED, NULL, NULL, NULL, later_changes_do_not_matter, false},
	{"runtime: lifecycle 3-5, 7",
		"hooks MUST be invoked; if one fails, the "
		"runtime MUST generate an error and stop "
		"the container",
		CHECKED, NULL, NULL, NULL, hooks_that_fail_end_it, false},
	{"runtime: lifecycle 9, 13",
		"poststart and poststop MUST be invoked; "
		"if one fails, the runtime MUST log a "
		"warning, and the rest goes on",
		CHECKED, NULL, NULL, NULL, later_hooks_that_fail_are_warnings,
		false},
	{"runtime: lifecycle 12, delete",
		"the container MUST be destroyed by "
		"undoing the steps of the create "
		"phase; an error MUST leave all as if "
		"it were never attempted",
		CHECKED, NULL, NULL, NULL, deletion_takes_all_back, false},
	{"runtime: start",
		"starting one that is not created MUST have no "
		"effect on it and MUST generate an error; so must "
		"kill of one that is neither created nor running",
		CHECKED, NULL, NULL, NULL, only_the_created_start, false},
	{"runtime: start", "it MUST generate an error if process was not set",
		REFUSED_AT_START, "{\"process\":null}", "true", "process", NULL,
		false},
	{"runtime: kill",
		"it MUST send the specified signal to the container "
		"process",
		CHECKED, NULL, NULL, NULL, a_signal_arrives, false},
	{"runtime: delete",
		"deleting one that is not stopped MUST have no "
		"effect on it and MUST generate an error",
		CHECKED, NULL, NULL, NULL, only_the_stopped_are_deleted, false},
	/* runtime-linux.md */
	{"runtime-linux: dev symbolic links",
		"runtimes MUST create /dev/fd, stdin, stdout and stderr", RUNS,
		"",
		"for l in fd stdin stdout stderr; do readlink /dev/$l; done",
		"/proc/self/fd\n/proc/self/fd/0\n/proc/self/fd/1\n/proc/self/"
		"fd/2\n",
		NULL, false},
	{"runtime-linux: file descriptors",
		"by default only stdin, stdout and stderr are kept open", RUNS,
		"", "ls /proc/self/fd | tr '\\n' ' '", "0 1 2 3 ", NULL, false},
	/* config.md */
	{"config: version", "ociVersion MUST be in SemVer v2.0.0 format",
		REFUSED, "{\"ociVersion\":\"one\"}", "true", "ociVersion", NULL,
		false},
	{"config: version", "two numbers are none", REFUSED,
		"{\"ociVersion\":\"1.0\"}", "true", "ociVersion", NULL, false},
	{"config: version", "ociVersion is REQUIRED", REFUSED,
		"{\"ociVersion\":null}", "true", "ociVersion", NULL, false},
	{"config: root", "a directory MUST exist at the path", REFUSED,
		"{\"root\":{\"path\":\"nosuch\"}}", "true", "root", NULL,
		false},
	{"config: root",
		"if readonly is true the root MUST be read-only inside", RUNS,
		"{\"root\":{\"readonly\":true}}", "touch /new; echo $?", "1\n",
		NULL, false},
	{"config: mounts", "the runtime MUST mount entries in the listed order",
		RUNS,
		"{\"+mounts\":[{\"destination\":\"/x\",\"type\":\"tmpfs\","
		"\"source\":\"first\"},{\"destination\":\"/x/y\",\"type\":"
		"\"tmpfs\",\"source\":\"second\"},{\"destination\":\"/x\","
		"\"type\":\"tmpfs\",\"source\":\"third\"}]}",
		"grep ' /x' /proc/mounts | cut -d' ' -f1 | tr '\\n' ' '; ls /x "
		"| wc -l",
		"first second third 0\n", NULL, false},
	{"config: mounts",
		"all options of the list MUST be implemented, or the "
		"value is an error",
		CHECKED, NULL, NULL, NULL, all_mount_options_are_known, true},
	{"config: mounts",
		"an option that the file system does not know is an "
		"error",
		REFUSED,
		MOUNT("\"destination\":\"/x\",\"type\":\"tmpfs\","
		      "\"options\":[\"tide=high\"]"),
		"true", "tide", NULL, false},
	{"config: mounts", "destination is REQUIRED", REFUSED,
		MOUNT("\"type\":\"tmpfs\""), "true", "destination", NULL,
		false},
	{"config: process", "consoleSize MUST be ignored if terminal is false",
		RUNS, PROCESS("\"consoleSize\":{\"height\":9,\"width\":9}"),
		"echo ran", "ran\n", NULL, false},
	{"config: process", "cwd MUST be an absolute path", REFUSED,
		PROCESS("\"cwd\":\"bin\""), "true", "cwd", NULL, false},
	{"config: process", "at least one entry of args is REQUIRED", REFUSED,
		PROCESS("\"args\":[]"), "true", "args", NULL, false},
	{"config: process",
		"rlimits that cannot be mapped to the kernel MUST "
		"be an error",
		REFUSED,
		PROCESS("\"rlimits\":[{\"type\":\"RLIMIT_TIDE\","
			"\"soft\":1,\"hard\":1}]"),
		"true", "RLIMIT_TIDE", NULL, false},
	{"config: process", "rlimits with the same type twice MUST be an error",
		REFUSED,
		PROCESS("\"rlimits\":[{\"type\":\"RLIMIT_CORE\",\"soft\":1,"
			"\"hard\":1},{\"type\":\"RLIMIT_CORE\",\"soft\":0,"
			"\"hard\":0}]"),
		"true", "RLIMIT_CORE", NULL, false},
	{"config: process", "soft and hard MUST be the limits of the process",
		RUNS,
		PROCESS("\"rlimits\":[{\"type\":\"RLIMIT_NOFILE\","
			"\"soft\":77,\"hard\":88}]"),
		"ulimit -Sn; ulimit -Hn", "77\n88\n", NULL, false},
	{"config: process",
		"a capability that is unknown MUST be logged as a "
		"warning, and is no failure",
		RUNS, PROCESS("\"capabilities\":{\"bounding\":[\"CAP_TIDE\"]}"),
		"echo ran", "ran\n", NULL, false},
	{"config: process", "oomScoreAdj MUST be set to the given value", RUNS,
		PROCESS("\"oomScoreAdj\":234"), "cat /proc/self/oom_score_adj",
		"234\n", NULL, false},
	{"config: process",
		"if oomScoreAdj is not set, the runtime MUST NOT "
		"change it",
		CHECKED, NULL, NULL, NULL, an_unset_score_is_the_callers,
		false},
	{"config: process", "an ioPriority class that is unknown is an error",
		REFUSED,
		PROCESS("\"ioPriority\":{\"class\":\"IOPRIO_TIDE\","
			"\"priority\":1}"),
		"true", "IOPRIO_TIDE", NULL, false},
	{"config: process", "a scheduler policy that is unknown is an error",
		REFUSED, PROCESS("\"scheduler\":{\"policy\":\"SCHED_TIDE\"}"),
		"true", "SCHED_TIDE", NULL, false},
	{"config: hooks", "path MUST be an absolute path", REFUSED,
		"{\"hooks\":{\"createRuntime\":[{\"path\":\"bin/true\"}]}}",
		"true", "path", NULL, false},
	{"config: hooks", "timeout MUST be greater than zero", REFUSED,
		"{\"hooks\":{\"createRuntime\":[{\"path\":\"/bin/true\","
		"\"timeout\":0}]}}",
		"true", "timeout", NULL, false},
	{"config: hooks",
		"they MUST be called in the listed order, with the "
		"state over stdin, each in its namespaces and at its "
		"time",
		CHECKED, NULL, NULL, NULL, hooks_run_where_they_must, false},
	{"config: annotations", "values MUST be strings", REFUSED,
		"{\"annotations\":{\"a\":7}}", "true", "annotations", NULL,
		false},
	{"config: annotations", "keys MUST NOT be an empty string", REFUSED,
		"{\"annotations\":{\"\":\"x\"}}", "true", "annotations", NULL,
		false},
	{"config: annotations", "unknown keys MUST NOT be an error", RUNS,
		"{\"annotations\":{\"x=y z\":\"\"}}", "echo ran", "ran\n", NULL,
		false},
	{"config: extensibility", "unknown properties MUST be ignored", RUNS,
		"{\"tide\":[1],\"process\":{\"tide\":{}},\"root\":{\"tide\":1},"
		"\"linux\":{\"tide\":true,\"resources\":{\"tide\":1}}}",
		"echo ran", "ran\n", NULL, false},
	{"config: valid values", "invalid values MUST be an error", REFUSED,
		"{\"linux\":{\"rootfsPropagation\":\"tide\"}}", "true",
		"rootfsPropagation", NULL, false},
	{"config: valid values", "values of the wrong type MUST be an error",
		REFUSED, "{\"hostname\":7}", "true", "hostname", NULL, false},
	/* config-linux.md */
	{"config-linux: default filesystems", "/dev/pts is a devpts", RUNS, "",
		"grep ' /dev/pts ' /proc/mounts", "devpts", NULL, false},
	{"config-linux: namespaces", "path MUST be an absolute path", REFUSED,
		"{\"linux\":{\"namespaces\":[{\"type\":\"pid\"},{\"type\":"
		"\"mount\"},{\"type\":\"uts\",\"path\":\"proc/self/ns/"
		"uts\"}]}}",
		"true", "not absolute", NULL, false},
	{"config-linux: namespaces",
		"a path that is not of that type MUST be "
		"an error",
		REFUSED,
		"{\"hostname\":null,\"linux\":{\"namespaces\":[{\"type\":"
		"\"pid\"},{\"type\":\"mount\"},{\"type\":\"uts\",\"path\":"
		"\"/proc/self/ns/ipc\"}]}}",
		"true", "uts", NULL, false},
	{"config-linux: namespaces",
		"a path that is no namespace MUST be an "
		"error",
		REFUSED,
		"{\"hostname\":null,\"linux\":{\"namespaces\":[{\"type\":"
		"\"pid\"},{\"type\":\"mount\"},{\"type\":\"uts\",\"path\":"
		"\"/etc/passwd\"}]}}",
		"true", "uts", NULL, false},
	{"config-linux: namespaces",
		"without a path a new one MUST be created; "
		"what is not named MUST be inherited",
		RUNS,
		"{\"hostname\":null,\"linux\":{\"namespaces\":[{\"type\":"
		"\"pid\"},{\"type\":\"mount\"}]}}",
		"echo pid $$; cat /proc/sys/kernel/hostname > /dev/null && "
		"echo "
		"same",
		"pid 1\nsame", NULL, true},
	{"config-linux: namespaces", "the same type twice MUST be an error",
		REFUSED, NS("{\"type\":\"pid\"}"), "true", "pid", NULL, false},
	{"config-linux: namespaces", "an unknown type is an error", REFUSED,
		NS("{\"type\":\"tide\"}"), "true", "tide", NULL, false},
	{"config-linux: devices",
		"a file at path that is not the device MUST "
		"be an error",
		REFUSED,
		"{\"linux\":{\"devices\":[{\"path\":\"/bin/busybox\",\"type\":"
		"\"c\",\"major\":1,\"minor\":3}]}}",
		"true", "/bin/busybox", NULL, false},
	{"config-linux: devices",
		"type, and major and minor but for p, are "
		"REQUIRED",
		REFUSED, "{\"linux\":{\"devices\":[{\"path\":\"/dev/x\"}]}}",
		"true", "type", NULL, false},
	{"config-linux: default devices",
		"the runtime MUST also supply null, "
		"zero, full, random, urandom, tty and "
		"ptmx",
		RUNS, "",
		"for d in null zero full random urandom tty ptmx; do [ -c "
		"/dev/$d ] && echo $d; done | tr '\\n' ' '",
		"null zero full random urandom tty ptmx ", NULL, false},
	{"config-linux: control groups",
		"the same cgroupsPath MUST be the same "
		"place",
		CHECKED, NULL, NULL, NULL, the_same_path_is_the_same_group,
		true},
	{"config-linux: control groups",
		"paths that are invalid MUST be an "
		"error",
		REFUSED, "{\"linux\":{\"cgroupsPath\":\"/a/../../b\"}}", "true",
		"cgroupsPath", NULL, false},
	{"config-linux: device rules",
		"entries MUST be applied in the listed "
		"order",
		RUNS,
		LIMIT("\"devices\":[{\"allow\":false,\"access\":\"rwm\"},{"
		      "\"allow\":true,\"type\":\"c\",\"major\":1,\"minor\":11,"
		      "\"access\":\"rwm\"},{\"allow\":false,\"type\":\"c\","
		      "\"major\":1,\"minor\":11,\"access\":\"rwm\"}]"),
		"mknod /dev/k c 1 11 2>&1; head -c 1 /dev/k 2>&1",
		"ot permitted", NULL, true},
	{"config-linux: block io", "weight or leafWeight MUST be given",
		REFUSED,
		LIMIT("\"blockIO\":{\"weightDevice\":[{\"major\":8,\"minor\":0}"
		      "]}"),
		"true", "weight", NULL, false},
	{"config-linux: rdma", "hcaHandles or hcaObjects MUST be given",
		REFUSED, LIMIT("\"rdma\":{\"mlx5\":{}}"), "true", "rdma", NULL,
		false},
	{"config-linux: unified",
		"a controller that is not there MUST be an "
		"error",
		REFUSED, LIMIT("\"unified\":{\"tide.max\":\"1\"}"), "true",
		"tide.max", NULL, false},
	{"config-linux: rdt", "unsupported intelRdt is an error", REFUSED,
		"{\"linux\":{\"intelRdt\":{\"closID\":\"x\"}}}", "true",
		"intelRdt", NULL, false},
	{"config-linux: seccomp", "defaultAction is REQUIRED", REFUSED,
		FILTER("\"syscalls\":[]"), "true", "defaultAction", NULL,
		false},
	{"config-linux: seccomp", "names MUST contain at least one entry",
		REFUSED,
		FILTER("\"defaultAction\":\"SCMP_ACT_ALLOW\",\"syscalls\":[{"
		       "\"names\":[],\"action\":\"SCMP_ACT_ERRNO\"}]"),
		"true", "names", NULL, false},
	{"config-linux: seccomp", "an action without errno MUST NOT have one",
		REFUSED,
		FILTER("\"defaultAction\":\"SCMP_ACT_KILL\","
		       "\"defaultErrnoRet\":1"),
		"true", "rrnoRet", NULL, false},
	{"config-linux: seccomp", "SCMP_ACT_NOTIFY MUST have a listenerPath",
		REFUSED,
		FILTER("\"defaultAction\":\"SCMP_ACT_ALLOW\",\"syscalls\":[{"
		       "\"names\":[\"chown\"],\"action\":\"SCMP_ACT_NOTIFY\"}"
		       "]"),
		"true", "listenerPath", NULL, false},
	{"config-linux: seccomp",
		"listenerMetadata MUST NOT be set without a "
		"listenerPath",
		REFUSED,
		FILTER("\"defaultAction\":\"SCMP_ACT_ALLOW\","
		       "\"listenerMetadata\":\"x\""),
		"true", "listenerMetadata", NULL, false},
	{"config-linux: seccomp", "an unknown flag is an error", REFUSED,
		FILTER("\"defaultAction\":\"SCMP_ACT_ALLOW\",\"flags\":["
		       "\"TIDE\"]"),
		"true", "TIDE", NULL, false},
	{"config-linux: masked paths", "maskedPaths MUST be absolute", REFUSED,
		"{\"linux\":{\"maskedPaths\":[\"proc/kcore\"]}}", "true",
		"maskedPaths", NULL, false},
	{"config-linux: read-only paths", "readonlyPaths MUST be absolute",
		REFUSED, "{\"linux\":{\"readonlyPaths\":[\"proc/sys\"]}}",
		"true", "readonlyPaths", NULL, false},
	{"config-linux: masked paths", "masked paths cannot be read", RUNS,
		"{\"linux\":{\"maskedPaths\":[\"/proc/timer_list\",\"/proc/"
		"nosuch\"]}}",
		"cat /proc/timer_list | wc -c", "0\n", NULL, false},
	{"config-linux: read-only paths", "read-only paths cannot be written",
		RUNS, "{\"linux\":{\"readonlyPaths\":[\"/bin\"]}}",
		"touch /bin/new; echo $?", "1\n", NULL, false},
	{"config-linux: personality", "an unknown domain is an error", REFUSED,
		"{\"linux\":{\"personality\":{\"domain\":\"TIDE\"}}}", "true",
		"TIDE", NULL, false},
	/* features.md */
	{"features", "ociVersionMin and ociVersionMax are REQUIRED", CHECKED,
		NULL, NULL, NULL, the_features_have_what_they_must, false},
	/* The ground that all this stands on. */
	{"propagation", "all of it on a shared root", CHECKED, NULL, NULL, NULL,
		the_root_is_shared_here, false},
};

static void check_one(const struct must *must)
{
	const char *text;
	int code;

	other("sh -c 'cat /dev/null > %s/log'", world_folder);
	if (must->kind == CHECKED) {
		must->check();
		return;
	}
	bundle_write(must->patch, must->command);
	if (must->kind == RUNS) {
		run_to_the_end();
		text = seen();
		CHECK(holds(text, must->text));
		if (!holds(text, must->text))
			printf("\n    seen: %s\n", text);
		return;
	}
	code = create();
	if (must->kind == REFUSED) {
		CHECK(code != 0);
		SAYS(seen(), must->text);
		CHECK(code < 126);
		CODE(oci(code ? "state box" : "delete --force box"),
			code ? 3 : 0);
		return;
	}
	CHECK_INT(code, 0);
	CHECK(oci("start box")->code != 0);
	SAYS(oci("state box")->out, "\"created\"");
	end_it();
}

static void every_sentence_holds(void)
{
	bundle_make();
	for (size_t i = 0; i < COUNT_OF(musts); i++) {
		unsigned int before = CU_get_number_of_failures();

		if (musts[i].root && world_user)
			continue;
		check_one(&musts[i]);
		if (CU_get_number_of_failures() > before)
			printf("    %s: %s\n", musts[i].where,
				musts[i].sentence);
	}
}

static const CU_TestInfo tests[] = {
	{"every sentence holds", every_sentence_holds}, CU_TEST_INFO_NULL};

const struct suite suite_musts = {"musts", tests};
