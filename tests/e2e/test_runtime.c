/* The runtime's operations as an engine uses them: transitions, hooks, the
 * terminal, a filter's listener. (Fields: test_bundle.c.) */
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/un.h>
#include <unistd.h>

#include "e2e/bundles.h"
#include "e2e/harness.h"

static struct result *oci(const char *line)
{
	return hull("oci %s --root %s/oci", line, world_folder);
}

static int create(void)
{
	return wait_for(hull_start("seen",
		"oci create --root %s/oci --bundle %s/bundle --pid-file "
		"%s/pid box",
		world_folder, world_folder, world_folder));
}

static bool is_stopped(void *arg)
{
	(void)arg;
	return strstr(oci("state box")->out, "\"stopped\"") != NULL;
}

static void wrong_transitions_are_errors(void)
{
	struct result *result;

	bundle_make();
	bundle_write("", "sleep 1000");
	CODE(oci("start box"), 3);
	CODE(oci("state box"), 3);
	CODE(oci("kill box"), 3);
	CODE(oci("delete box"), 3);
	CHECK_INT(create(), 0);
	CHECK_INT(create(), 4);
	SAYS(oci("state box")->out, "\"created\"");
	result = oci("delete box");
	CODE(result, 4);
	SAYS(result->err, "cannot be deleted: it is created, not stopped");
	CODE(oci("start box"), 0);
	result = oci("start box");
	CODE(result, 4);
	SAYS(result->err, "cannot be started: it is running, not created");
	CODE(oci("delete box"), 4);
	CODE(oci("kill box NOSUCH"), 2);
	CODE(oci("kill box KILL"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("kill box"), 4);
	CODE(oci("start box"), 4);
	CODE(oci("delete box"), 0);
	CODE(oci("delete box"), 3);
	CODE(oci("create ../x"), 2);
	CODE(oci("launch box"), 2);
}

/* Below folders that nobody has used before: each has a group of its own. */
static void folders_have_containers_of_their_own(void)
{
	static const char *const folders[] = {"one", "other"};

	bundle_make();
	bundle_write("", "sleep 1000");
	for (size_t i = 0; i < COUNT_OF(folders); i++)
		CODE(other("sh -c '%s/tidyhull oci create --root %s/%s "
			   "--bundle %s/bundle box </dev/null >/dev/null 2>&1'",
			     world_build, world_folder, folders[i],
			     world_folder),
			0);
	CODE(hull("oci start --root %s/other box", world_folder), 0);
	CODE(hull("oci delete --force --root %s/one box", world_folder), 0);
	SAYS(hull("oci state --root %s/other box", world_folder)->out,
		"\"running\"");
	CODE(hull("oci kill --root %s/other --all box KILL", world_folder), 0);
	CODE(hull("oci delete --force --root %s/other box", world_folder), 0);
}

/* Engines give /dev/null, too: a file in its place would harm all the host. */
static void a_pid_file_may_be_a_pipe(void)
{
	bundle_make();
	bundle_write("", "sleep 1000");
	CODE(other("mkfifo pid"), 0);
	CODE(other("sh -c 'exec 9<>pid; %s/tidyhull oci create --root %s/oci "
		   "--bundle %s/bundle --pid-file %s/pid box </dev/null "
		   ">/dev/null 2>&1 && timeout 1 cat <&9 >got; test -s got'",
		     world_build, world_folder, world_folder, world_folder),
		0);
	CODE(other("test -p pid"), 0);
	CODE(oci("delete --force box"), 0);
}

static void the_state_is_the_specifications(void)
{
	json_t *state;
	char pid[32] = "";

	bundle_make();
	bundle_write("{\"annotations\":{\"org.selwick.berth\":\"7\"}}",
		"sleep 1000");
	CHECK_INT(create(), 0);
	state = json_loads(oci("state box")->out, 0, NULL);
	CHECK_TEXT(json_string_value(json_object_get(state, "id")), "box");
	CHECK_TEXT(json_string_value(json_object_get(state, "ociVersion")),
		"1.0.2");
	CHECK_TEXT(json_string_value(json_object_get(
			   json_object_get(state, "annotations"),
			   "org.selwick.berth")),
		"7");
	snprintf(pid, sizeof(pid), "%lld",
		json_integer_value(json_object_get(state, "pid")));
	CHECK_TEXT(other("cat %s/pid", world_folder)->out, pid);
	json_decref(state);
	/* What config.json says later does not matter. */
	bundle_write("", "echo changed");
	CODE(oci("kill box KILL"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static const char hook_form[] =
	"{\"hooks\":{\"%s\":[{\"path\":\"%s\",\"args\":[\"sh\",\"-c\",\"%s\"],"
	"\"env\":[\"PATH=/bin:/usr/bin\"]%s}]}}";

static void hooks_run_in_their_order(void)
{
	static const char *const kinds[] = {"prestart", "createRuntime",
		"createContainer", "startContainer", "poststart", "poststop"};
	char patch[4000] = "{\"hooks\":{", text[4000];

	bundle_make();
	other("mkdir %s/bundle/rootfs/out", world_folder);
	for (size_t i = 0; i < COUNT_OF(kinds); i++)
		snprintf(patch + strlen(patch), sizeof(patch) - strlen(patch),
			"%s\"%s\":[{\"path\":\"/bin/sh\",\"args\":[\"sh\","
			"\"-c\",\"cat >%s/state; echo %s >>%s/order\"],\"env\":"
			"[\"PATH=/bin:/usr/bin\"]}]",
			i ? "," : "", kinds[i], i == 3 ? "" : "@", kinds[i],
			i == 3 ? "" : "@");
	strcat(patch, "}}");
	snprintf(text, sizeof(text), "%s", patch);
	bundle_write(text, "sleep 1000");
	CHECK_INT(create(), 0);
	CHECK_TEXT(other("cat %s/order", world_folder)->out,
		"prestart\ncreateRuntime\ncreateContainer\n");
	SAYS(other("cat %s/state", world_folder)->out, "\"creating\"");
	CODE(oci("start box"), 0);
	/* It runs inside: what it writes is in the container's root. */
	CHECK_TEXT(other("cat %s/bundle/rootfs/order", world_folder)->out,
		"startContainer\n");
	SAYS(other("cat %s/order", world_folder)->out, "poststart\n");
	SAYS(other("cat %s/state", world_folder)->out, "\"running\"");
	CODE(oci("delete --force box"), 0);
	SAYS(other("cat %s/order", world_folder)->out, "poststop\n");
	SAYS(other("cat %s/state", world_folder)->out, "\"stopped\"");
}

static void hooks_that_fail_undo_the_creation(void)
{
	char patch[1000];

	bundle_make();
	snprintf(patch, sizeof(patch), hook_form, "createRuntime", "/bin/sh",
		"echo the mole is closed >&2; exit 7", "");
	bundle_write(patch, "true");
	CHECK_INT(create(), 1);
	SAYS(other("cat %s/seen", world_folder)->out,
		"the createRuntime hook /bin/sh ended with exit code 7: the "
		"mole is closed");
	CODE(oci("state box"), 3);
	snprintf(patch, sizeof(patch), hook_form, "prestart", "/bin/sh",
		"sleep 100", ",\"timeout\":1");
	bundle_write(patch, "true");
	CHECK_INT(create(), 1);
	SAYS(other("cat %s/seen", world_folder)->out, "longer than its 1 s");
	snprintf(patch, sizeof(patch), hook_form, "createContainer",
		"/no/such/hook", "", "");
	bundle_write(patch, "true");
	CHECK_INT(create(), 1);
	/* After the fact it is a warning. */
	snprintf(patch, sizeof(patch), hook_form, "poststart", "/bin/sh",
		"exit 3", "");
	bundle_write(patch, "sleep 1000");
	CHECK_INT(create(), 0);
	CODE(oci("start box"), 0);
	SAYS(oci("state box")->out, "\"running\"");
	CODE(oci("delete --force box"), 0);
}

static void programs_that_cannot_start_are_told(void)
{
	struct result *result;

	bundle_make();
	bundle_write("{\"process\":{\"args\":[\"/nosuch\"]}}", "");
	CHECK_INT(create(), 0);
	result = hull("oci start box --root %s/oci --log %s/log", world_folder,
		world_folder);
	CHECK(result->code != 0);
	SAYS(result->err, "does not have a program \"/nosuch\"");
	CHECK(file_holds("log", "\"level\":\"error\""));
	CHECK(file_holds("log", "nosuch"));
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

/* Listens at a socket of the test's folder. */
static int listen_at(const char *name)
{
	struct sockaddr_un address = {.sun_family = AF_UNIX};
	int fd = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
	const struct timeval patience = {.tv_sec = 20};

	/* A test that waits for nobody must end all the same. */
	setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
	snprintf(address.sun_path, sizeof(address.sun_path), "%.80s/%.20s",
		world_folder, name);
	CHECK_INT(bind(fd, (struct sockaddr *)&address, sizeof(address)), 0);
	CHECK_INT(chmod(address.sun_path, 0777), 0);
	CHECK_INT(listen(fd, 4), 0);
	return fd;
}

/* Takes one descriptor and what was said with it. */
static int take_descriptor(int listener, char text[4000])
{
	int s = accept4(listener, NULL, NULL, SOCK_CLOEXEC), fd = -1;
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int))];
	} control;
	struct iovec part = {.iov_base = text, .iov_len = 3999};
	struct msghdr message = {.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = &control,
		.msg_controllen = sizeof(control)};
	ssize_t len = recvmsg(s, &message, MSG_CMSG_CLOEXEC);
	struct cmsghdr *header = len > 0 ? CMSG_FIRSTHDR(&message) : NULL;

	text[len > 0 ? len : 0] = '\0';
	if (header)
		memcpy(&fd, CMSG_DATA(header), sizeof(int));
	close(s);
	return fd;
}

static void a_terminal_is_handed_over(void)
{
	int listener, terminal;
	char text[4000];
	ssize_t len = 0, got;
	pid_t pid;

	bundle_make();
	bundle_write("{\"process\":{\"terminal\":true,\"consoleSize\":{"
		     "\"height\":33,\"width\":77}}}",
		"tty; stty size; ls -l /dev/console | cut -c1");
	/* Nobody would take it. */
	CHECK_INT(create(), 2);
	listener = listen_at("console");
	pid = hull_start("seen",
		"oci create --root %s/oci --bundle %s/bundle --console-socket "
		"%s/console box",
		world_folder, world_folder, world_folder);
	terminal = take_descriptor(listener, text);
	CHECK_INT(wait_for(pid), 0);
	CHECK(terminal >= 0);
	CODE(oci("start box"), 0);
	while (len < 3999 &&
		(got = read(terminal, text + len, 3999 - (size_t)len)) > 0)
		len += got;
	text[len] = '\0';
	SAYS(text, "/dev/pts/0");
	SAYS(text, "33 77");
	SAYS(text, "c\r\n");
	close(terminal);
	close(listener);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static void a_filters_listener_is_handed_over(void)
{
	char text[4000], link[64], target[64] = "";
	int listener, fd;
	pid_t pid;

	bundle_make();
	bundle_write("{\"linux\":{\"seccomp\":{\"defaultAction\":"
		     "\"SCMP_ACT_ALLOW\",\"listenerPath\":\"@/agent\","
		     "\"listenerMetadata\":\"berth 7\",\"syscalls\":[{"
		     "\"names\":[\"sethostname\"],\"action\":"
		     "\"SCMP_ACT_NOTIFY\"}]}}}",
		"sleep 1000");
	listener = listen_at("agent");
	CHECK_INT(create(), 0);
	pid = hull_start(
		"started", "oci start box --root %s/oci", world_folder);
	fd = take_descriptor(listener, text);
	CHECK_INT(wait_for(pid), 0);
	CHECK(fd >= 0);
	snprintf(link, sizeof(link), "/proc/self/fd/%d", fd);
	if (readlink(link, target, sizeof(target) - 1) < 0)
		target[0] = '\0';
	SAYS(target, "seccomp");
	SAYS(text, "\"fds\":[\"seccompFd\"]");
	SAYS(text, "\"metadata\":\"berth 7\"");
	SAYS(text, "\"id\":\"box\"");
	close(fd);
	close(listener);
	CODE(oci("delete --force box"), 0);
}

static void what_this_host_lacks_is_told(void)
{
	static const struct {
		const char *patch, *says;
	} cases[] = {{"{\"process\":{\"apparmorProfile\":\"harbour\"}}",
			     "this host does not have AppArmor"},
		{"{\"process\":{\"selinuxLabel\":\"harbour\"}}",
			"this host does not have SELinux"},
		{"{\"linux\":{\"mountLabel\":\"harbour\"}}",
			"this host does not have SELinux"},
		{"{\"linux\":{\"intelRdt\":{}}}", "intelRdt"},
		{"{\"+mounts\":[{\"destination\":\"/x\",\"type\":\"tidefs\"}]}",
			"cannot mount \"tidefs\""},
		{"{\"+mounts\":[{\"destination\":\"/x\",\"type\":\"tmpfs\","
		 "\"options\":[\"tide=high\"]}]}",
			"cannot have the option \"tide=high\""},
		{"{\"+mounts\":[{\"destination\":\"/x\",\"source\":\"/nosuch\","
		 "\"options\":[\"bind\"]}]}",
			"cannot mount /nosuch"},
		{"{\"root\":{\"path\":\"nosuch\"}}", "cannot open the root"}};

	bundle_make();
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		if (strstr(cases[i].says, "AppArmor") &&
			*other("cat /sys/module/apparmor/parameters/enabled")
					->out == 'Y')
			continue;
		bundle_write(cases[i].patch, "true");
		CHECK(create() != 0);
		SAYS(other("cat %s/seen", world_folder)->out, cases[i].says);
		CODE(oci("state box"), 3);
	}
}

/* An image with links where the kernel's windows are mounted. */
static void links_in_the_root_do_not_move_mounts(void)
{
	bundle_make();
	other("ln -s /bin %s/bundle/rootfs/proc", world_folder);
	bundle_write("", "true");
	CHECK_INT(create(), 1);
	SAYS(other("cat %s/seen", world_folder)->out, "has a link there");
	other("rm %s/bundle/rootfs/proc", world_folder);
	other("ln -s ../../../../../.. %s/bundle/rootfs/up", world_folder);
	bundle_write("{\"+mounts\":[{\"destination\":\"/up/caught\",\"type\":"
		     "\"tmpfs\"}]}",
		"grep caught /proc/mounts");
	CHECK_INT(create(), 0);
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	SAYS(other("cat %s/seen", world_folder)->out, " /caught ");
	CHECK(access("/caught", F_OK) != 0);
	CODE(oci("delete box"), 0);
}

static void a_group_is_the_containers_own(void)
{
	static const char *const paths[] = {"", "/", "//", "//system",
		"/pier/../../init", "..", "./pier", "/pier/."};
	char patch[200];

	bundle_make();
	for (size_t i = 0; i < sizeof(paths) / sizeof(*paths); i++) {
		snprintf(patch, sizeof(patch),
			"{\"linux\":{\"cgroupsPath\":\"%s\"}}", paths[i]);
		bundle_write(patch, "true");
		CHECK_INT(create(), 1);
		SAYS(other("cat %s/seen", world_folder)->out,
			"does not name a control group of the container's own");
	}
	CODE(oci("state box"), 3);
}

static bool is_alive(pid_t pid)
{
	char path[64], state = 'X';
	FILE *file;

	snprintf(path, sizeof(path), "/proc/%d/stat", (int)pid);
	file = fopen(path, "r");
	if (file && fscanf(file, "%*d %*s %c", &state) != 1)
		state = 'X';
	if (file)
		fclose(file);
	return state != 'X' && state != 'Z';
}

/* A group in which the host runs something of its own. */
static void a_group_that_was_there_stays(void)
{
	const char *mount = access("/sys/fs/cgroup/unified", F_OK) == 0
		? "/sys/fs/cgroup/unified"
		: "/sys/fs/cgroup";
	char folder[200], path[240];
	pid_t tug = other_start("tug", "sleep 1000");
	FILE *file;

	snprintf(folder, sizeof(folder), "%s/%s", mount, bundle_tag());
	mkdir(folder, 0755);
	snprintf(path, sizeof(path), "%s/cgroup.procs", folder);
	file = fopen(path, "w");
	CHECK(file && fprintf(file, "%d", (int)tug) > 0);
	CHECK(file && fclose(file) == 0);
	bundle_make();
	/* Created, signalled, deleted; in the group and in one below it. */
	for (int below = 0; below < 2; below++) {
		char patch[200];

		snprintf(patch, sizeof(patch),
			"{\"linux\":{\"cgroupsPath\":\"/~%s\"}}",
			below ? "/deep/box" : "");
		bundle_write(patch, "sleep 1000");
		CHECK_INT(create(), 0);
		CODE(oci("start box"), 0);
		CODE(oci("kill --all box KILL"), 0);
		CHECK(wait_until(is_stopped, NULL));
		CODE(oci("delete box"), 0);
		CHECK(is_alive(tug));
		snprintf(path, sizeof(path), "%s/deep", folder);
		CHECK(access(path, F_OK) != 0);
	}
	/* A creation that fails after the group. */
	bundle_write("{\"linux\":{\"cgroupsPath\":\"/~\"},"
		     "\"process\":{\"cwd\":\"/no/such\"},\"+mounts\":[{"
		     "\"destination\":\"/x\",\"type\":\"tidefs\"}]}",
		"true");
	CHECK(create() != 0);
	CHECK(is_alive(tug));
	CHECK(access(folder, F_OK) == 0);
	signal_to(tug, SIGKILL);
	wait_for(tug);
	CHECK_INT(rmdir(folder), 0);
}

/* "hostID ... is the starting user/group ID on the host to be mapped": as the
 * caller sees it, who has never heard of the namespace that is made for it. */
static void mapped_ids_are_the_callers(void)
{
	char patch[400];
	unsigned int own = world_user;
	struct stat st;
	char path[320];

	bundle_make();
	other("chmod 777 %s", bundle_rootfs);
	snprintf(patch, sizeof(patch),
		"{\"linux\":{\"uidMappings\":[{\"containerID\":0,\"hostID\":"
		"%u,\"size\":1}],\"gidMappings\":[{\"containerID\":0,"
		"\"hostID\":%u,\"size\":1}],\"+namespaces\":[{\"type\":"
		"\"user\"}]}}",
		own, own);
	bundle_write(patch, "touch /made; id -u; cat /proc/self/uid_map");
	CHECK_INT(create(), 0);
	CODE(oci("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
	snprintf(path, sizeof(path), "%s/made", bundle_rootfs);
	CHECK(stat(path, &st) == 0 && st.st_uid == own && st.st_gid == own);
	if (!world_user)
		return;
	/* Somebody else's. */
	bundle_write("{\"linux\":{\"uidMappings\":[{\"containerID\":0,"
		     "\"hostID\":0,\"size\":1}],\"gidMappings\":[{"
		     "\"containerID\":0,\"hostID\":0,\"size\":1}],"
		     "\"+namespaces\":[{\"type\":\"user\"}]}}",
		"true");
	CHECK_INT(create(), 5);
	CHECK(file_holds("seen",
		"the ID 0 in the container's mappings is "
		"neither yours nor"));
}

/* It may be written between create and start no more, but left out. */
static void a_process_is_needed_to_start(void)
{
	struct result *result;

	bundle_make();
	bundle_write(
		"{\"process\":null,\"annotations\":{\"a=b\":\"c=d\"}}", "true");
	CHECK_INT(create(), 0);
	SAYS(oci("state box")->out, "\"a=b\": \"c=d\"");
	result = oci("start box");
	CODE(result, 1);
	SAYS(result->err, "does not have a process");
	SAYS(oci("state box")->out, "\"created\"");
	CODE(oci("kill box KILL"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(oci("delete box"), 0);
}

static void warnings_reach_the_log(void)
{
	bundle_make();
	bundle_write("{\"process\":{\"capabilities\":{\"+bounding\":["
		     "\"CAP_TIDE\"]}},\"linux\":{\"resources\":{\"memory\":{"
		     "\"useHierarchy\":false}}}}",
		"true");
	CHECK_INT(wait_for(hull_start("seen",
			  "oci create --root %s/oci --bundle %s/bundle --log "
			  "%s/log box",
			  world_folder, world_folder, world_folder)),
		0);
	CHECK(file_holds("log", "\"warning\""));
	CHECK(file_holds("log", "CAP_TIDE"));
	CHECK(file_holds("log", "useHierarchy"));
	CODE(oci("delete box --force"), 0);
}

/* features.md; each option that is named is taken. */
static void features_are_told(void)
{
	json_t *doc = hull_json("oci features"), *options, *option, *part;
	size_t i;

	CHECK_TEXT(json_string_value(json_object_get(doc, "ociVersionMin")),
		"1.0.0");
	CHECK_INT(json_array_size(json_object_get(doc, "hooks")), 6);
	part = json_object_get(doc, "linux");
	CHECK_INT(json_array_size(json_object_get(part, "namespaces")), 8);
	CHECK(json_array_size(json_object_get(part, "capabilities")) > 35);
	part = json_object_get(part, "seccomp");
	CHECK(json_is_true(json_object_get(part, "enabled")));
	CHECK_INT(json_array_size(json_object_get(part, "actions")), 9);
	CHECK_INT(json_array_size(json_object_get(part, "operators")), 7);
	CHECK(json_array_size(json_object_get(part, "supportedFlags")) >= 3);
	options = json_object_get(doc, "mountOptions");
	CHECK(json_array_size(options) > 50);
	bundle_make();
	json_array_foreach(options, i, option)
	{
		const char *word = json_string_value(option);
		char patch[300];

		/* These are about another kind of mount, or need mappings. */
		if (strstr(word, "idmap") || strcmp(word, "tmpcopyup") == 0 ||
			strcmp(word, "remount") == 0)
			continue;
		/* Times of access are the mount's owner's to choose, and in a
		 * user namespace that is somebody else. */
		if (world_user &&
			(strstr(word, "atime") || strstr(word, "diratime")))
			continue;
		snprintf(patch, sizeof(patch),
			"{\"+mounts\":[{\"destination\":\"/in\",\"source\":"
			"\"@/bundle\",\"type\":\"none\",\"options\":[\"rbind\","
			"\"%s\"]}]}",
			word);
		bundle_write(patch, "true");
		if (create())
			printf("\n    %s: %s", word, other("cat seen")->out);
		CODE(oci("delete box --force"), 0);
	}
	json_decref(doc);
}

static const CU_TestInfo tests[] = {{"features are told", features_are_told},
	{"mapped IDs are the caller's", mapped_ids_are_the_callers},
	{"a process is needed to start", a_process_is_needed_to_start},
	{"warnings reach the log", warnings_reach_the_log},
	{"folders have containers of their own",
		folders_have_containers_of_their_own},
	{"a pid file may be a pipe", a_pid_file_may_be_a_pipe},
	{"wrong transitions are errors", wrong_transitions_are_errors},
	{"the state is the specification's", the_state_is_the_specifications},
	{"hooks run in their order", hooks_run_in_their_order},
	{"hooks that fail undo the creation",
		hooks_that_fail_undo_the_creation},
	{"programs that cannot start are told",
		programs_that_cannot_start_are_told},
	{"a terminal is handed over", a_terminal_is_handed_over},
	{"a filter's listener is handed over",
		a_filters_listener_is_handed_over},
	{"what this host lacks is told", what_this_host_lacks_is_told},
	{"links in the root do not move mounts",
		links_in_the_root_do_not_move_mounts},
	{"a group is the container's own", a_group_is_the_containers_own},
	{"a group that was there stays", a_group_that_was_there_stays},
	CU_TEST_INFO_NULL};

const struct suite suite_runtime = {"runtime", tests};
