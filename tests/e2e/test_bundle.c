/* The fields of config.json one by one: a bundle for each, and what is seen of
 * it from inside the container. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/bundles.h"
#include "e2e/harness.h"

static bool is_stopped(void *arg)
{
	(void)arg;
	return strstr(hull("oci state --root %s/oci box", world_folder)->out,
		       "\"stopped\"") != NULL;
}

/* Create, start, wait for the end, delete; what it printed is in the file
 * "seen". Returns the first exit code that is not 0. */
static int run_bundle(void)
{
	int code = wait_for(hull_start("seen",
		"oci create --root %s/oci --bundle %s/bundle box", world_folder,
		world_folder));

	if (code)
		return code;
	code = hull("oci start --root %s/oci box", world_folder)->code;
	if (code == 0)
		CHECK(wait_until(is_stopped, NULL));
	CODE(hull("oci delete --root %s/oci%s box", world_folder,
		     code ? " --force" : ""),
		0);
	return code;
}

static const char *seen(void)
{
	return other("cat %s/seen", world_folder)->out;
}

static const char *const v1_memory = "/sys/fs/cgroup/memory/cgroup.procs";

static const struct {
	const char *field;
	const char *patch;
	const char *command;
	const char *expected; /* "!" before it: must not be there */
	/* A path without which the host cannot, "root", or NULL. */
	const char *need;
} fields[] = {{"process.args", "", "echo hello", "hello", NULL},
	{"process.env", "{\"process\":{\"+env\":[\"TIDE=high\"]}}",
		"echo $TIDE", "high", NULL},
	{"process.cwd", "{\"process\":{\"cwd\":\"/bin\"}}", "pwd", "/bin",
		NULL},
	{"process.user", "{\"process\":{\"user\":{\"uid\":7,\"gid\":8}}}", "id",
		"uid=7 gid=8", NULL},
	{"process.user.additionalGids",
		"{\"process\":{\"user\":{\"additionalGids\":[41,42]}}}",
		"grep Groups /proc/self/status", "41 42", NULL},
	{"process.user.umask", "{\"process\":{\"user\":{\"umask\":63}}}",
		"umask", "0077", NULL},
	{"process.rlimits",
		"{\"process\":{\"rlimits\":[{\"type\":\"RLIMIT_NOFILE\","
		"\"soft\":77,\"hard\":88}]}}",
		"ulimit -Sn; ulimit -Hn", "77\n88", NULL},
	{"process.capabilities",
		"{\"process\":{\"capabilities\":{\"bounding\":[\"CAP_CHOWN\","
		"\"CAP_FOWNER\"],\"effective\":[],\"permitted\":[\"CAP_CHOWN\"]"
		",\"inheritable\":[\"CAP_CHOWN\"],\"ambient\":[\"CAP_CHOWN\"]}}"
		"}",
		"grep Cap /proc/self/status | cut -c1-7,23- | xargs",
		"CapInh:01"
		" CapPrm:01 CapEff:01 CapBnd:09 CapAmb:01",
		NULL},
	{"process.noNewPrivileges", "{\"process\":{\"noNewPrivileges\":false}}",
		"grep NoNew /proc/self/status", "0", NULL},
	{"process.noNewPrivileges", "", "grep NoNew /proc/self/status", "1",
		NULL},
	{"process.oomScoreAdj", "{\"process\":{\"oomScoreAdj\":321}}",
		"cat /proc/self/oom_score_adj", "321", NULL},
	{"process.ioPriority",
		"{\"process\":{\"ioPriority\":{\"class\":\"IOPRIO_CLASS_BE\","
		"\"priority\":6}}}",
		"ionice -p $$", "best-effort: prio 6", NULL},
	{"process.scheduler",
		"{\"process\":{\"scheduler\":{\"policy\":\"SCHED_BATCH\","
		"\"nice\":5}}}",
		"cut -d' ' -f19,41 /proc/self/stat", "5 3", NULL},
	{"process.scheduler.nice",
		"{\"process\":{\"scheduler\":{\"policy\":\"SCHED_OTHER\","
		"\"nice\":5}}}",
		"cut -d' ' -f19 /proc/self/stat", "5", NULL},
	{"root.readonly", "{\"root\":{\"readonly\":true}}",
		"touch /x; grep ' / ' /proc/mounts", " ro,", NULL},
	{"hostname", "{\"hostname\":\"pilot-7\"}", "hostname", "pilot-7", NULL},
	{"domainname", "{\"domainname\":\"selwick\"}",
		"cat /proc/sys/kernel/domainname", "selwick", NULL},
	/* mounts */
	{"mounts bind ro",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"bind\",\"ro\"]}]}",
		"cat /in/note; touch /in/x 2>&1", "Read-only", NULL},
	{"mounts bind file",
		"{\"+mounts\":[{\"destination\":\"/deep/note\",\"source\":"
		"\"@/out/note\",\"options\":[\"bind\"]}]}",
		"cat /deep/note", "from outside", NULL},
	{"mounts relative source",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"../out\","
		"\"options\":[\"bind\"]}]}",
		"cat /in/note", "from outside", NULL},
	{"mounts rbind without recursion of ro",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"rbind\",\"ro\"]}]}",
		"touch /in/below/x && echo written", "written", "root"},
	{"mounts rbind rro",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"rbind\",\"rro\"]}]}",
		"touch /in/below/x 2>&1", "Read-only", "root"},
	{"mounts bind without what is below",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"bind\"]}]}",
		"ls /in/below | wc -l", "0", "root"},
	{"mounts tmpfs options",
		"{\"+mounts\":[{\"destination\":\"/t\",\"type\":\"tmpfs\","
		"\"source\":\"t\",\"options\":[\"nosuid\",\"nodev\",\"noexec\","
		"\"size=64k\",\"mode=1750\",\"noatime\"]}]}",
		"stat -c %a /t; grep ' /t ' /proc/mounts",
		"1750\nt /t tmpfs rw,nosuid,nodev,noexec,noatime", NULL},
	{"mounts relatime strictatime nodiratime",
		"{\"+mounts\":[{\"destination\":\"/t\",\"type\":\"tmpfs\","
		"\"options\":[\"strictatime\",\"nodiratime\",\"sync\","
		"\"dirsync\",\"lazytime\"]}]}",
		"grep ' /t ' /proc/mounts | sed s/relatime/BAD/",
		"rw,sync,dirsync,lazytime,nodiratime", NULL},
	{"mounts noexec",
		"{\"+mounts\":[{\"destination\":\"/t\",\"type\":\"tmpfs\","
		"\"options\":[\"noexec\",\"exec\",\"nosymfollow\"]}]}",
		"cp /bin/busybox /t/echo; /t/echo runs; ln -s echo /t/l; "
		"cat /t/l 2>&1 | head -c 300",
		"symbolic links", NULL},
	{"mounts remount",
		"{\"+mounts\":[{\"destination\":\"/t\",\"type\":\"tmpfs\"},"
		"{\"destination\":\"/t\",\"options\":[\"remount\",\"ro\"]}]}",
		"touch /t/x 2>&1", "Read-only", NULL},
	{"mounts tmpcopyup",
		"{\"+mounts\":[{\"destination\":\"/stock\",\"type\":\"tmpfs\","
		"\"options\":[\"tmpcopyup\"]}]}",
		"cat /stock/a/b; stat -c %a /stock/a; readlink /stock/l; touch "
		"/stock/x && echo new",
		"charts\n705\na/b\nnew", NULL},
	{"mounts propagation private", "", "grep ' / ' /proc/self/mountinfo",
		"!shared", NULL},
	{"mounts propagation shared",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"rbind\",\"rshared\"]}]}",
		"grep ' /in ' /proc/self/mountinfo", "shared:", NULL},
	{"mounts propagation slave",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/"
		"shared\","
		"\"options\":[\"rbind\",\"rslave\"]}]}",
		"grep ' /in ' /proc/self/mountinfo", "master:", NULL},
	{"mounts propagation unbindable",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"bind\",\"unbindable\"]}]}",
		"grep ' /in ' /proc/self/mountinfo", "unbindable", NULL},
	{"mounts idmap",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":\"@/out\","
		"\"options\":[\"bind\",\"idmap\"],\"uidMappings\":[{"
		"\"containerID\":0,\"hostID\":5000,\"size\":10}],"
		"\"gidMappings\":[{\"containerID\":0,\"hostID\":5000,"
		"\"size\":10}]}]}",
		"stat -c %u /in/note", "5000", "root"},
	{"linux.rootfsPropagation",
		"{\"linux\":{\"rootfsPropagation\":\"shared\"}}",
		"grep ' / ' /proc/self/mountinfo", "shared:", NULL},
	/* namespaces */
	{"linux.namespaces pid", "", "echo $$", "1", NULL},
	{"linux.namespaces network", "", "grep -c : /proc/net/dev", "1", NULL},
	{"linux.namespaces shared",
		"{\"linux\":{\"namespaces\":[{\"type\":\"mount\"},{\"type\":"
		"\"pid\"},{\"type\":\"uts\"}]}}",
		"readlink /proc/self/ns/ipc", "@ipc", "root"},
	{"linux.namespaces path",
		"{\"linux\":{\"namespaces\":[{\"type\":\"mount\"},{\"type\":"
		"\"pid\"},{\"type\":\"uts\"},{\"type\":\"network\",\"path\":"
		"\"@/netns\"}]}}",
		"readlink /proc/self/ns/net", "@net", "root"},
	{"linux.uidMappings",
		"{\"linux\":{\"+namespaces\":[{\"type\":\"user\"}],"
		"\"uidMappings\":[{\"containerID\":0,\"hostID\":7000,\"size\":"
		"3}],\"gidMappings\":[{\"containerID\":0,\"hostID\":8000,"
		"\"size\":4}]}}",
		"cat /proc/self/uid_map /proc/self/gid_map | xargs; id -u",
		"0 7000 3 0 8000 4\n0", "root"},
	/* devices */
	{"linux.devices",
		"{\"linux\":{\"devices\":[{\"path\":\"/dev/mine\",\"type\":"
		"\"c\",\"major\":1,\"minor\":5,\"fileMode\":416,\"uid\":3,"
		"\"gid\":4},{\"path\":\"/run/pipe\",\"type\":\"p\"}]}}",
		"stat -c '%F %a %u %g %t:%T' /dev/mine; stat -c %F /run/pipe",
		"character special file 640 3 4 1:5\nfifo", "root"},
	{"default devices", "",
		"for d in null zero full random urandom tty; do [ -c /dev/$d ] "
		"|| echo no $d; done; ls -l /dev/ptmx /dev/fd | wc -l",
		"2", NULL},
	/* control groups */
	{"linux.cgroupsPath",
		"{\"linux\":{\"cgroupsPath\":\"/~/deep/box\","
		"\"namespaces\":[{\"type\":\"mount\"},{\"type\":\"pid\"},{"
		"\"type\":\"uts\"}]}}",
		"grep ^0: /proc/self/cgroup", "/deep/box", "root"},
	{"cgroup namespace", "", "grep ^0: /proc/self/cgroup", "0::/\n",
		"root"},
	{"linux.resources.memory",
		"{\"linux\":{\"cgroupsPath\":\"/~/box\",\"resources\":{"
		"\"memory\":{\"limit\":33554432,\"reservation\":16777216,"
		"\"swappiness\":0}}},\"+mounts\":[{"
		"\"destination\":\"/cg\",\"source\":\"/sys/fs/cgroup/memory/~/"
		"box\",\"options\":[\"bind\"]}]}",
		"cat /cg/memory.limit_in_bytes /cg/memory.soft_limit_in_bytes "
		"/cg/memory.swappiness | xargs",
		"33554432 16777216 0", v1_memory},
	{"linux.resources.cpu",
		"{\"linux\":{\"cgroupsPath\":\"/~/box\",\"resources\":{"
		"\"cpu\":{\"shares\":512,\"quota\":"
		"50000,\"period\":200000}}},\"+mounts\":[{\"destination\":"
		"\"/cg\",\"source\":\"/sys/fs/cgroup/cpu/~/box\","
		"\"options\":[\"bind\"]}]}",
		"cat /cg/cpu.shares /cg/cpu.cfs_quota_us /cg/cpu.cfs_period_us "
		"| xargs",
		"512 50000 200000", v1_memory},
	{"linux.resources.cpu.cpus",
		"{\"linux\":{\"resources\":{\"cpu\":{\"cpus\":\"0\",\"mems\":"
		"\"0\"}}}}",
		"grep Cpus_allowed_list /proc/self/status", "\t0\n",
		"/sys/fs/cgroup/cpuset/cgroup.procs"},
	{"linux.resources.pids",
		"{\"linux\":{\"resources\":{\"pids\":{\"limit\":3}}}}",
		"sleep 0.2 & sleep 0.2 & sleep 0.2 & sleep 0.2 & wait; echo "
		"after 2>&1",
		"!after", "/sys/fs/cgroup/pids/cgroup.procs"},
	{"linux.resources.blockIO",
		"{\"linux\":{\"cgroupsPath\":\"/~/box\",\"resources\":{"
		"\"blockIO\":{"
		"\"throttleReadBpsDevice\":[{\"major\":@disk,\"minor\":0,"
		"\"rate\":1048576}]}}},\"+mounts\":[{\"destination\":\"/cg\","
		"\"source\":\"/sys/fs/cgroup/blkio/~/box\",\"options\":["
		"\"bind\"]}]}",
		"cat /cg/blkio.throttle.read_bps_device", "1048576",
		"/sys/fs/cgroup/blkio/blkio.throttle.read_bps_device"},
	{"linux.resources.unified",
		"{\"linux\":{\"resources\":{\"unified\":{"
		"\"cgroup.max.depth\":\"7\"}}},\"+mounts\":[{\"destination\":"
		"\"/cg\",\"type\":\"cgroup2\",\"source\":\"c\"}]}",
		"cat /cg/cgroup.max.depth", "7", "root"},
	{"linux.resources.devices",
		"{\"linux\":{\"resources\":{\"devices\":[{\"allow\":false,"
		"\"access\":\"rwm\"},{\"allow\":true,\"type\":\"c\",\"major\":"
		"1,"
		"\"minor\":3,\"access\":\"rw\"}]}}}",
		"cat /dev/null && echo may; head -c 1 /dev/zero | wc -c",
		"may\n1", "root"},
	/* the rest of linux */
	{"linux.sysctl",
		"{\"linux\":{\"sysctl\":{\"net.ipv4.ip_forward\":\"1\","
		"\"kernel.msgmax\":\"7777\"}}}",
		"cat /proc/sys/net/ipv4/ip_forward /proc/sys/kernel/msgmax | "
		"xargs",
		"1 7777", NULL},
	{"linux.maskedPaths",
		"{\"linux\":{\"maskedPaths\":[\"/stock\",\"/bin/ed\",\"/"
		"none\"]}}",
		"ls /stock | wc -l; wc -c </bin/ed; touch /stock/x 2>&1",
		"0\n0\ntouch: /stock/x: Read-only", NULL},
	{"linux.readonlyPaths",
		"{\"linux\":{\"readonlyPaths\":[\"/proc/sys\",\"/stock\"]}}",
		"touch /stock/x 2>&1", "Read-only", NULL},
	{"linux.personality",
		"{\"linux\":{\"personality\":{\"domain\":\"LINUX32\"}}}",
		"uname -m", "i686", NULL},
	{"linux.seccomp errno",
		"{\"linux\":{\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
		"\"architectures\":[\"SCMP_ARCH_X86_64\",\"SCMP_ARCH_X86\"],"
		"\"syscalls\":[{\"names\":[\"mkdir\",\"mkdirat\"],\"action\":"
		"\"SCMP_ACT_ERRNO\",\"errnoRet\":95}]}}}",
		"mkdir /new 2>&1; grep Seccomp: /proc/self/status",
		"Operation not supported\nSeccomp:\t2", NULL},
	{"linux.seccomp arguments",
		"{\"linux\":{\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
		"\"syscalls\":[{\"names\":[\"kill\"],\"action\":"
		"\"SCMP_ACT_ERRNO\",\"args\":[{\"index\":1,\"value\":12,"
		"\"op\":\"SCMP_CMP_EQ\"}]}]}}}",
		"kill -12 1 2>&1; kill -0 1 && echo other",
		"not permitted\nother", NULL},
	{"linux.seccomp default",
		"{\"process\":{\"noNewPrivileges\":false},\"linux\":{"
		"\"seccomp\":{"
		"\"defaultAction\":\"SCMP_ACT_LOG\",\"flags\":["
		"\"SECCOMP_FILTER_FLAG_LOG\"],\"syscalls\":[{\"names\":["
		"\"sethostname\",\"no_such_call\"],\"action\":"
		"\"SCMP_ACT_ERRNO\",\"errnoRet\":1}]}}}",
		"hostname other 2>&1", "not permitted", NULL},
	{"linux.seccomp kill",
		"{\"linux\":{\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
		"\"syscalls\":[{\"names\":[\"sethostname\"],\"action\":"
		"\"SCMP_ACT_KILL_PROCESS\"}]}}}",
		"hostname x; echo $?", "159", NULL},
	{"annotations",
		"{\"annotations\":{\"org.selwick.berth\":\"7\",\"a=b=c\":"
		"\"=\"}}",
		"echo fine", "fine", NULL},
	/* What newer versions, and other engines, write. */
	{"unknown members",
		"{\"zos\":{},\"tides\":[1],\"process\":{\"mood\":\"calm\","
		"\"commandLine\":\"x\"},\"root\":{\"new\":1},\"linux\":{"
		"\"newer\":{\"a\":1},\"resources\":{\"memory\":{\"newest\":"
		"1},\"fresh\":{}}},\"+mounts\":[{\"destination\":\"/t\","
		"\"type\":\"tmpfs\",\"source\":\"t\",\"strange\":true}]}",
		"echo fine; grep -c ' /t ' /proc/mounts", "fine\n1", NULL},
	{"process.execCPUAffinity",
		"{\"process\":{\"execCPUAffinity\":{\"initial\":\"0-1\","
		"\"final\":\"0,1\"}}}",
		"echo fine", "fine", NULL},
	{"process.capabilities unknown",
		"{\"process\":{\"capabilities\":{\"bounding\":[\"CAP_CHOWN\","
		"\"CAP_TIDE\"],\"effective\":[],\"permitted\":[\"CAP_TIDE\"]}}"
		"}",
		"grep CapBnd /proc/self/status | cut -c1-7,23- | xargs",
		"CapBnd:01", NULL},
	{"process labels empty",
		"{\"process\":{\"apparmorProfile\":\"\",\"selinuxLabel\":"
		"\"\"},\"linux\":{\"mountLabel\":\"\"}}",
		"echo fine", "fine", NULL},
	{"mounts relative destination",
		"{\"+mounts\":[{\"destination\":\"in/deep\",\"source\":"
		"\"@/out\",\"options\":[\"bind\"]}]}",
		"cat /in/deep/note", "from outside", NULL},
	{"mounts bind with options of file systems",
		"{\"+mounts\":[{\"destination\":\"/in\",\"source\":"
		"\"@/out\",\"options\":[\"rbind\",\"sync\",\"async\","
		"\"dirsync\",\"lazytime\",\"nolazytime\",\"mand\",\"nomand\","
		"\"iversion\",\"noiversion\",\"loud\",\"silent\","
		"\"rprivate\"]}]}",
		"cat /in/note", "from outside", NULL},
	{"mounts tmpfs with options of file systems",
		"{\"+mounts\":[{\"destination\":\"/t\",\"type\":\"tmpfs\","
		"\"source\":\"t\",\"options\":[\"sync\",\"dirsync\","
		"\"lazytime\",\"noiversion\",\"size=1m\",\"mode=0711\","
		"\"nr_inodes=99\"]}]}",
		"grep ' /t ' /proc/mounts; stat -c %a /t", "sync", NULL},
	{"linux.resources.memory 0",
		"{\"linux\":{\"resources\":{\"memory\":{\"limit\":0,\"swap\":0,"
		"\"reservation\":0,\"useHierarchy\":false},\"cpu\":{"
		"\"shares\":0,\"quota\":0,\"period\":0}}}}",
		"echo fine", "fine", NULL},
	{"linux.seccomp architectures of others",
		"{\"linux\":{\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
		"\"architectures\":[\"SCMP_ARCH_X86_64\",\"SCMP_ARCH_"
		"LOONGARCH64"
		"\",\"SCMP_ARCH_RISCV64\",\"SCMP_ARCH_M68K\",\"SCMP_ARCH_SH\","
		"\"SCMP_ARCH_SHEB\",\"SCMP_ARCH_PARISC\",\"SCMP_ARCH_S390X\"]}}"
		"}",
		"echo fine", "fine", NULL},
	{"linux.namespaces time",
		"{\"linux\":{\"+namespaces\":[{\"type\":\"time\"}],"
		"\"timeOffsets\":{\"monotonic\":{\"secs\":172800,\"nanosecs\":"
		"5},\"boottime\":{\"secs\":864000000}}}}",
		"cat /proc/self/timens_offsets | xargs; awk '{print ($1 > "
		"800000000)}' /proc/uptime",
		"monotonic 172800 5 boottime 864000000 0\n1", NULL},
	{"linux.resources.devices that deny all",
		"{\"linux\":{\"resources\":{\"devices\":[{\"allow\":false,"
		"\"access\":\"rwm\"}]}}}",
		"echo x >/dev/null && head -c 1 /dev/zero | wc -c; head -c 1 "
		"/dev/urandom | wc -c; ls /dev/full",
		"1\n1\n/dev/full", "root"},
	{"linux.devices with narrower access",
		"{\"linux\":{\"devices\":[{\"path\":\"/dev/berth\",\"type\":"
		"\"c\",\"major\":1,\"minor\":11,\"fileMode\":438}],"
		"\"resources\":{\"devices\":[{\"allow\":false,\"access\":"
		"\"rwm\"},{\"allow\":true,\"type\":\"c\",\"major\":1,\"minor\":"
		"11,\"access\":\"w\"}]}}}",
		"ls /dev/berth; : >>/dev/berth && echo may write; head -c 1 "
		"/dev/berth 2>&1",
		"/dev/berth\nmay write\nhead: /dev/berth: Operation not "
		"permitted",
		"root"}};

/* ---- around the table ---- */

static void prepare_outside(void)
{
	bundle_make();
	other("mkdir -p %s/out/below %s/shared %s/stock/a", world_folder,
		world_folder, bundle_rootfs);
	put_file("out/note", "from outside\n");
	put_file("bundle/rootfs/stock/a/b", "charts\n");
	other("chmod 705 %s/stock/a", bundle_rootfs);
	other("ln -s a/b %s/stock/l", bundle_rootfs);
	/* In a user namespace it could not be left out again. */
	if (!world_user)
		as_root("mount -t tmpfs below %s/out/below", world_folder);
	as_root("mount -t tmpfs shared %s/shared", world_folder);
	as_root("mount --make-shared %s/shared", world_folder);
	put_file("netns", "");
	as_root("unshare --net=%s/netns true", world_folder);
}

static void clean_outside(void)
{
	as_root("umount %s/netns", world_folder);
	as_root("umount %s/shared", world_folder);
	if (!world_user)
		as_root("umount %s/out/below", world_folder);
}

/* The markers of the table that are known only here. */
static void resolve(const char *text, char to[300])
{
	struct result *result;

	snprintf(to, 300, "%s", text);
	if (strcmp(text, "@ipc") == 0) {
		result = other("readlink /proc/self/ns/ipc");
		snprintf(to, 300, "%.299s", result->out);
	} else if (strcmp(text, "@net") == 0) {
		result = other("stat -c net:[%%i] %s/netns", world_folder);
		snprintf(to, 300, "%.299s", result->out);
	}
}

static void every_field_holds(void)
{
	prepare_outside();
	for (size_t i = 0; i < COUNT_OF(fields); i++) {
		char patch[4000], expected[300];
		const char *disk = strstr(fields[i].patch, "@disk"), *text;
		bool not_there, there;
		int code;

		if (fields[i].need &&
			(world_user ||
				(fields[i].need[0] == '/' &&
					access(fields[i].need, F_OK)))) {
			printf("\n    skipped: %s (%s)", fields[i].field,
				fields[i].need[0] == '/'
					? "the host has no such controller for "
					  "this user"
					: "it needs root");
			continue;
		}
		snprintf(patch, sizeof(patch), "%s", fields[i].patch);
		if (disk)
			snprintf(patch, sizeof(patch), "%.*s%s%s",
				(int)(disk - fields[i].patch), fields[i].patch,
				"254", disk + 5);
		bundle_write(patch, fields[i].command);
		code = run_bundle();
		resolve(fields[i].expected, expected);
		text = seen();
		/* Kernels before 6.3 cannot map the IDs of a tmpfs. */
		if (strstr(text,
			    "its file system, or this user, is not able")) {
			printf("\n    skipped: %s (%s)", fields[i].field, text);
			continue;
		}
		not_there = expected[0] == '!';
		there = strstr(text, expected + not_there) != NULL;
		if (code || there == not_there) {
			printf("\n    %s: expected \"%s\", seen (%d) \"%s\"\n",
				fields[i].field, expected, code, text);
			CU_FAIL("a field does not hold");
		}
	}
	clean_outside();
}

static const CU_TestInfo tests[] = {
	{"every field holds", every_field_holds}, CU_TEST_INFO_NULL};

const struct suite suite_bundle = {"bundle", tests};
