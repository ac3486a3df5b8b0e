/* Attempts to get out of a container: every one fails. */
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static void launch_box(const char *more)
{
	CODE(hull("launch selwick/base --name box --network none %s -- sleep "
		  "1000",
		     more),
		0);
}

/* What is tried inside, as root there with the default settings; it must fail
 * and must not say the word. */
static void attempts_by_root_inside_fail(void)
{
	static const char *const attempts[] = {/* host files */
		"cat /proc/1/root/etc/shadow", "ls /proc/1/cwd/containers",
		"cat /proc/self/fd/3",
		/* host processes */
		"kill -9 -2147483647", "kill -0 2147000",
		/* mounting and leaving namespaces */
		"busybox mount -t proc proc /mnt",
		"busybox mount -o remount,rw /sys",
		"busybox mount --bind / /mnt", "busybox umount /proc/kcore",
		"busybox umount -l /etc/hosts", "busybox unshare -m true",
		"busybox unshare -U true", "busybox nsenter -t 1 -m true",
		"busybox chroot /proc/1/root ls /usr/include",
		/* kernel and devices */
		"busybox insmod /tmp/x.ko",
		"sh -c 'echo b >/proc/sysrq-trigger'",
		"sh -c 'echo 1 >/proc/sys/kernel/panic'",
		"sh -c 'echo x >/proc/sys/kernel/core_pattern'",
		"sh -c 'echo x >/sys/kernel/uevent_helper'",
		"busybox mknod /tmp/disk b 254 0",
		"busybox mknod /dev/mem c 1 1", "cat /dev/vda", "busybox dmesg",
		"busybox hostname taken",
		"sh -c 'date -s 2001-01-01; test $(date +%Y) -lt 2010'",
		"busybox reboot -f",
		"sh -c 'echo x >/tmp/swap; busybox swapon /tmp/swap'",
		/* control groups */
		"mkdir /sys/fs/cgroup/out",
		"sh -c 'echo $$ >/sys/fs/cgroup/cgroup.procs'",
		"sh -c 'echo 1 >/sys/fs/cgroup/cgroup.kill'"};

	launch_box("");
	for (size_t i = 0; i < COUNT_OF(attempts); i++) {
		struct result *result = hull("exec box -- %s", attempts[i]);

		if (result->code == 0) {
			printf("\n    it worked: %s\n    %s\n", attempts[i],
				result->out);
			CU_FAIL("an attempt has succeeded");
		}
		/* Made and refused, not for want of a program. */
		CHECK(result->code != 127);
	}
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("remove --force box"), 0);
}

static void masked_paths_are_empty(void)
{
	static const char *const files[] = {"/proc/kcore", "/proc/keys",
		"/proc/timer_list", "/proc/kallsyms", "/proc/interrupts",
		"/proc/slabinfo", "/proc/vmallocinfo", "/proc/pagetypeinfo",
		"/proc/kpagecount", "/proc/kpageflags", "/proc/kpagecgroup",
		"/proc/key-users", "/sys/kernel/vmcoreinfo"};
	struct result *result;

	launch_box("");
	for (size_t i = 0; i < COUNT_OF(files); i++) {
		result = hull("exec box -- sh -c 'wc -c <%s'", files[i]);
		CHECK(result->code != 0 || atoi(result->out) == 0);
	}
	result = hull("exec box -- sh -c 'ls /sys/firmware | wc -l'");
	CHECK(result->code != 0 || atoi(result->out) == 0);
	CODE(hull("remove --force box"), 0);
	/* The option that loosens it. */
	result = hull("run selwick/base --network none --allow kernel-paths -- "
		      "sh -c 'wc -c </proc/interrupts'");
	CODE(result, 0);
	CHECK(atoi(result->out) > 0);
}

static void settings_take_defaults_away_one_by_one(void)
{
	static const struct {
		const char *option, *command, *without, *with;
	} cases[] = {{"--allow syscalls", "grep Seccomp: /proc/self/status",
			     "2", "0"},
		{"--allow new-privileges", "grep NoNew /proc/self/status", "1",
			"0"},
		{"--capability -CHOWN", "grep CapBnd /proc/self/status", "fb",
			"fa"},
		{"--capability +SYS_ADMIN", "hostname other 2>&1; hostname",
			"not permitted", "other"},
		{"--read-only", "touch /x 2>&1; echo end", "end", "Read-only"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		SAYS(hull("run selwick/base --network none -- sh -c '%s'",
			     cases[i].command)
				->out,
			cases[i].without);
		SAYS(hull("run selwick/base --network none %s -- sh -c '%s'",
			     cases[i].option, cases[i].command)
				->out,
			cases[i].with);
	}
	CODE(hull("run selwick/base --allow tides -- true"), 125);
	/* socketcall of the 32-bit ABI, with nonsense: it looks at it. */
	SAYS(hull("run selwick/base --network none --allow old-sockets --mount "
		  "/inside=%s/inside,ro -- sh -c '/inside/calls 32 102 | tail "
		  "-1'",
		     world_build)
			->out,
		"102 22");
}

static void program_of_keeper_cannot_be_changed(void)
{
	struct result *result;
	char before[200];

	result = as_root("sha256sum %s/tidyhull-keeper", world_build);
	snprintf(before, sizeof(before), "%.199s", result->out);
	/* As the program, as a script's interpreter, and through the reaper,
	 * whose file is the keeper's. */
	hull("run selwick/base --network none -- /proc/self/exe");
	hull("run selwick/base --network none -- sh -c 'printf "
	     "\"#!/proc/self/exe\\\\n\" >/x; chmod 755 /x; (/x; true) & for i "
	     "in 1 2 3 4 5; do for p in /proc/[0-9]*; do echo bad "
	     ">>$p/exe; done; done'");
	launch_box("--reaper yes");
	result = hull("exec box -- sh -c 'exec 7</proc/1/exe; echo bad "
		      ">>/proc/self/fd/7'");
	CHECK(result->code != 0);
	CODE(hull("remove --force box"), 0);
	result = as_root("sha256sum %s/tidyhull-keeper", world_build);
	CHECK_TEXT(result->out, before);
}

/* An image with links where the system's mounts go. */
static void links_lead_nowhere(void)
{
	put_file("secret", "of the host\n");
	CODE(hull("create selwick/base --name box --network none --mount "
		  "/out/../../../../%s/hit=memory -- sh -c 'ls /'",
		     world_folder),
		0);
	CODE(hull("start box"), 0);
	hull("logs --follow box");
	CODE(hull("remove --force box"), 0);
	CHECK(access("/hit", F_OK) != 0);
}

static void a_joined_session_shows_nothing_of_the_host(void)
{
	struct result *result;

	launch_box("");
	/* The session's own process, before its program runs, is not to be
	 * looked into. */
	result = hull("exec box -- sh -c 'ls -l /proc/self/fd | grep -c "
		      "/var'");
	CHECK_TEXT(result->out, "0\n");
	result = hull("exec box --workdir /proc/self/fd/4 -- pwd");
	CHECK(result->code != 0);
	result = hull("exec box -- sh -c 'grep -E \"Seccomp:|NoNew\" "
		      "/proc/self/status'");
	SAYS(result->out, "NoNewPrivs:\t1");
	SAYS(result->out, "Seccomp:\t2");
	CODE(hull("remove --force box"), 0);
}

static void the_keeper_cannot_be_traced(void)
{
	launch_box("--capability +SYS_PTRACE");
	/* Its PID namespace holds no keeper. */
	CHECK_TEXT(hull("exec box -- sh -c 'cat /proc/[0-9]*/comm | grep -c "
			"keeper'")
			   ->out,
		"0\n");
	CODE(hull("remove --force box"), 0);
}

/* A line of /proc/PID/status, of the kind "CapEff:\t0000000000000020". */
static unsigned long long status_of(pid_t pid, const char *key)
{
	const char *at =
		strstr(as_root("cat /proc/%d/status", (int)pid)->out, key);

	CHECK(at != NULL);
	return at ? strtoull(at + strlen(key), NULL, 16) : ~0ull;
}

static int score_of(pid_t pid)
{
	return atoi(as_root("cat /proc/%d/oom_score_adj", (int)pid)->out);
}

/* CAP_KILL, to signal a program of another user; others for as long as
 * something is done for somebody. */
static bool rests(void *arg)
{
	return status_of(*(pid_t *)arg, "CapEff:") == 0x20;
}

static void keeps_little(void)
{
	/* What starts modules, clocks, another kernel: CAP_SYS_MODULE,
	 * CAP_SYS_RAWIO, CAP_SYS_BOOT, CAP_SYS_TIME, CAP_DAC_READ_SEARCH. */
	const unsigned long long never =
		1ull << 16 | 1ull << 17 | 1ull << 22 | 1ull << 25 | 1ull << 2;
	pid_t keeper = keeper_of("box");

	CHECK(wait_until(rests, &keeper));
	CHECK_INT(status_of(keeper, "CapPrm:") & never, 0);
	CHECK_INT(status_of(keeper, "CapBnd:") & never, 0);
	CHECK_INT(status_of(keeper, "NoNewPrivs:"), 1);
	CHECK_INT(status_of(keeper, "Seccomp:"), 2);
	CHECK(score_of(keeper) < score_of(atoi(field("box", "pid"))));
}

static void the_keeper_keeps_little(void)
{
	launch_box("--probe exec:true,every=50ms");
	keeps_little();
	/* After all that it does with its rights. */
	CODE(hull("exec box -- true"), 0);
	CODE(hull("wait box --until ready"), 0);
	CODE(hull("restart box --grace 0s"), 0);
	keeps_little();
	CODE(hull("exec box --user 1000 -- true"), 0);
	SAYS(hull("exec box --workdir /no -- true")->err, "/no");
	CHECK_INT(score_of(atoi(field("box", "pid"))),
		atoi(hull("exec box -- cat /proc/self/oom_score_adj")->out));
	keeps_little();
	CODE(hull("remove --force box"), 0);
	/* What the container may do the keeper cannot do without. */
	launch_box("--allow syscalls,new-privileges");
	CHECK_INT(status_of(keeper_of("box"), "Seccomp:"), 0);
	CHECK_INT(status_of(keeper_of("box"), "NoNewPrivs:"), 0);
	CODE(hull("remove --force box"), 0);
}

/* The process of the name and parent (0: of any). */
static pid_t process_called(const char *name, pid_t parent)
{
	char line[32] = "";

	if (parent)
		snprintf(line, sizeof(line), "%d$", (int)parent);
	return atoi(as_root("sh -c 'for d in /proc/[0-9]*; do read n <$d/comm; "
			    "[ \"$n\" = %s ] && grep -q \"^PPid:.%s\" "
			    "$d/status && echo ${d#/proc/}; done'",
		name, line)
			    ->out);
}

static pid_t relay_of(const char *name)
{
	return process_called("tidyhull-relay", keeper_of(name));
}

/* It carries all packets of a user's containers. */
static void a_pilot_is_nothing_to_take_over(void)
{
	pid_t pilot;

	CODE(hull("launch selwick/gauge --name box --port 80=8080"), 0);
	pilot = process_called("tidyhull-pilot", 0);
	CHECK(pilot > 1);
	CHECK_INT(status_of(pilot, "CapPrm:"), 0);
	CHECK_INT(status_of(pilot, "CapBnd:"), 0);
	CHECK_INT(status_of(pilot, "NoNewPrivs:"), 1);
	CHECK_INT(status_of(pilot, "Seccomp:"), 2);
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	CODE(hull("remove --force box"), 0);
}

static bool answers(void *arg)
{
	(void)arg;
	return fetch("127.0.0.1", 8080, "/health") != NULL;
}

static void a_relay_is_nothing_to_take_over(void)
{
	pid_t relay;

	CODE(hull("launch selwick/gauge --name box --port 80=8080"), 0);
	relay = relay_of("box");
	CHECK(relay > 1);
	CHECK_INT(status_of(relay, "CapPrm:"), 0);
	CHECK_INT(status_of(relay, "CapEff:"), 0);
	CHECK_INT(status_of(relay, "NoNewPrivs:"), 1);
	CHECK_INT(status_of(relay, "Seccomp:"), 2);
	/* It is where the bridge is, so that servers see the address of that,
	 * and holds nothing but its sockets. */
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	CHECK_TEXT(as_root("sh -c '[ $(readlink /proc/%d/ns/net) = $(readlink "
			   "/proc/%d/ns/net) ] || echo another'",
			   (int)relay, atoi(field("box", "pid")))
			   ->out,
		"another\n");
	CHECK_TEXT(as_root("sh -c 'ls -l /proc/%d/fd | grep -v "
			   "\"socket:\\|/dev/null\\|eventpoll\\|total\"'",
			   (int)relay)
			   ->out,
		"");
	/* Without it the ports live on: there is another at once. */
	signal_to(relay, SIGKILL);
	CHECK(wait_until(answers, NULL));
	CHECK(relay_of("box") != relay);
	SAYS(hull("timeline box")->out,
		"the program that carries its ports was killed, and started "
		"again");
	kill_keeper("box");
	hull("remove --force box");
}

static void devices_are_given_by_path_and_by_name(void)
{
	struct result *result;

	CODE(hull("run selwick/base --network none -- ls /dev/fuse"), 1);
	result = hull("run selwick/base --network none --device /dev/fuse -- "
		      "ls -l /dev/fuse");
	CODE(result, 0);
	SAYS(result->out, "10, 229");
	result = hull("run selwick/base --network none --device /dev/none -- "
		      "true");
	CODE(result, 125);
	SAYS(result->err, "the device /dev/none does not exist");
	as_root("mkdir -p /run/cdi");
	as_root("sh -c 'cat >/run/cdi/selwick.json <<X\n"
		"{\"cdiVersion\":\"0.6.0\",\"kind\":\"selwick.example/gauge\","
		"\"containerEdits\":{\"env\":[\"GAUGES=1\"]},\"devices\":[{"
		"\"name\":\"north\",\"containerEdits\":{\"env\":["
		"\"STATION=north\"],\"deviceNodes\":[{\"path\":\"/dev/fuse\"}],"
		"\"mounts\":[{\"hostPath\":\"/etc/hostname\",\"containerPath\":"
		"\"/etc/gauge\",\"options\":[\"bind\",\"ro\"]}]}}]}\nX'");
	result = hull("run selwick/base --network none --device "
		      "selwick.example/gauge=north -- sh -c 'echo $GAUGES "
		      "$STATION; ls /dev/fuse /etc/gauge'");
	CODE(result, 0);
	CHECK_TEXT(result->out, "1 north\n/dev/fuse\n/etc/gauge\n");
	result =
		hull("run selwick/base --device selwick.example/gauge=south -- "
		     "true");
	CODE(result, 125);
	SAYS(result->err, "no device named");
	/* As batch engines name what a job may use. */
	result =
		other("env MINE=north,north %s/tidyhull run selwick/base "
		      "--network none --device selwick.example/gauge=@env:MINE "
		      "-- sh -c 'echo $STATION; ls /dev/fuse'",
			world_build);
	CODE(result, 0);
	CHECK_TEXT(result->out, "north\n/dev/fuse\n");
	/* Assigned none, it has none. */
	result = other("env MINE= %s/tidyhull run selwick/base --network none "
		       "--device selwick.example/gauge=@env:MINE -- ls "
		       "/dev/fuse",
		world_build);
	CODE(result, 1);
	result = hull("run selwick/base --network none --device "
		      "selwick.example/gauge=@env:MINE -- true");
	CODE(result, 125);
	SAYS(result->err, "MINE is not set in your environment");
	as_root("rm -r /run/cdi");
}

static void batch_work_shares_what_is_the_callers(void)
{
	struct result *result;
	struct stat st;
	char path[300];

	result = hull("run selwick/base --network none --share "
		      "home,cwd,user -- sh -c 'id -u; pwd; echo $HOME; echo "
		      "tide >made; cat /etc/motd | head -1'");
	CODE(result, 0);
	snprintf(path, sizeof(path), "%u\n%s\n%s\n", world_user, world_folder,
		world_folder);
	SAYS(result->out, path);
	snprintf(path, sizeof(path), "%s/made", world_folder);
	CHECK_INT(stat(path, &st), 0);
	CHECK_INT(st.st_uid, world_user);
	/* Without it, what root inside makes is the caller's as well. */
	CODE(hull("run selwick/base --network none --mount /w=. -- touch "
		  "/w/other"),
		0);
	snprintf(path, sizeof(path), "%s/other", world_folder);
	CHECK_INT(stat(path, &st), 0);
	CHECK_INT(st.st_uid, world_user);
	CODE(hull("run selwick/base --share boat -- true"), 125);
}

static void two_users_do_not_meet(void)
{
	char line[400];

	launch_box("");
	snprintf(line, sizeof(line), "list --root %s", world_store);
	CHECK(hull_as_user(line)->code != 0);
	snprintf(line, sizeof(line), "kill box --root %s", world_store);
	CHECK(hull_as_user(line)->code != 0);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("remove --force box"), 0);
}

/* Without XDG_RUNTIME_DIR the state of bundles lies below /tmp: a folder that
 * somebody else has made there first is not taken. */
static void a_run_folder_of_others_is_refused(void)
{
	static const char *const made[] = {"mkdir -m 777 $F",
		"mkdir -m 700 $F; chown 4712 $F", "ln -s /var/tmp $F",
		"mkdir -m 777 $F; chown 4711 $F"};
	char folder[64];

	snprintf(folder, sizeof(folder), "/tmp/tidyhull-%u", world_user);
	for (size_t i = 0; i < COUNT_OF(made); i++) {
		struct result *result;

		as_root("sh -c 'F=%s; %s'", folder, made[i]);
		result = other("env -u XDG_RUNTIME_DIR -u TIDYHULL_ROOT "
			       "%s/tidyhull oci state box",
			world_build);
		CHECK(result->code != 0);
		SAYS(result->err, folder);
		as_root("rm -rf %s", folder);
	}
	CODE(other("env -u XDG_RUNTIME_DIR -u TIDYHULL_ROOT "
		   "%s/tidyhull oci state box",
		     world_build),
		3);
	as_root("rm -rf %s", folder);
}

/* keyctl(2), which the filter answers as a kernel without it. */
static bool is_filtered(void)
{
	return strstr(hull("exec box -- /inside/calls native 250")->out,
		       "\n250 38\n") != NULL;
}

/* A program that permits everything, in the place of what was compiled. */
static void a_changed_filter_is_not_believed(void)
{
	/* BPF_RET | BPF_K, SECCOMP_RET_ALLOW; alone and behind any seal. */
	static const char *const forms[] = {"\\006\\0\\0\\0\\0\\0\\377\\177",
		("0123456789abcdef0123456789abcdef"
		 "\\006\\0\\0\\0\\0\\0\\377\\177"),
		""};

	CODE(hull("create --name box --mount /inside=%s/inside,ro "
		  "selwick/base -- sleep 1000",
		     world_build),
		0);
	for (size_t i = 0; i < COUNT_OF(forms); i++) {
		CODE(as_root("sh -c 'for f in %s/filters/*; do printf \"%s\" "
			     ">$f; done'",
			     world_store, forms[i]),
			0);
		CODE(hull("start box"), 0);
		CHECK(is_filtered());
		CODE(hull("stop box --grace 0s"), 0);
		/* It was mended on the way; the rules are when they are needed.
		 */
		CHECK_TEXT(as_root("find %s/filters -type f -size -1000c ! "
				   "-name '*.rules'",
				   world_store)
				   ->out,
			"");
		CODE(hull("create --name other selwick/base"), 0);
		CHECK_TEXT(as_root("find %s/filters -type f -size -1000c",
				   world_store)
				   ->out,
			"");
		CHECK_TEXT(as_root("grep -L defaultErrnoRet "
				   "%s/containers/*/config.json",
				   world_store)
				   ->out,
			"");
		CODE(hull("remove other"), 0);
	}
	/* The program of another container, under this one's name. */
	CODE(hull("create --name free --capability +SYS_ADMIN selwick/base -- "
		  "sleep 1000"),
		0);
	CODE(as_root("sh -c 'cd %s/filters && set -- *[!s] && [ $# = 2 ] && "
		     "mv $1 x && mv $2 $1 && mv x $2'",
		     world_store),
		0);
	CODE(hull("start box"), 0);
	/* mount(2), which goes with that capability. */
	SAYS(hull("exec box -- /inside/calls native 165")->out, "\n165 1\n");
	CODE(hull("remove --force box free"), 0);
}

static const CU_TestInfo tests[] = {
	{"attempts by root inside fail", attempts_by_root_inside_fail},
	{"masked paths are empty", masked_paths_are_empty},
	{"settings take defaults away one by one",
		settings_take_defaults_away_one_by_one},
	{"the program of the keeper cannot be changed",
		program_of_keeper_cannot_be_changed},
	{"links lead nowhere", links_lead_nowhere},
	{"a joined session shows nothing of the host",
		a_joined_session_shows_nothing_of_the_host},
	{"the keeper cannot be traced", the_keeper_cannot_be_traced},
	{"the keeper keeps little", the_keeper_keeps_little},
	{"a relay is nothing to take over", a_relay_is_nothing_to_take_over},
	{"a pilot is nothing to take over", a_pilot_is_nothing_to_take_over},
	{"devices are given by path and by name",
		devices_are_given_by_path_and_by_name},
	{"batch work shares what is the caller's",
		batch_work_shares_what_is_the_callers},
	{"two users do not meet", two_users_do_not_meet},
	{"a run folder of others is refused",
		a_run_folder_of_others_is_refused},
	{"a changed filter is not believed", a_changed_filter_is_not_believed},
	CU_TEST_INFO_NULL};

const struct suite suite_escape = {"escape", tests};
