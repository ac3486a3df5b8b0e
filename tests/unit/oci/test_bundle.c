#include "oci/bundle.h"

#include <sched.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include "unit/unit.h"

#define PROCESS "\"process\":{\"args\":[\"x\"],\"cwd\":\"/\"%s}"
#define REST                                                                   \
	"\"ociVersion\":\"1.0.2\",\"root\":{\"path\":\"rootfs\"}%s,"           \
	"\"linux\":{\"namespaces\":[{\"type\":\"mount\"},"                     \
	"{\"type\":\"uts\"}]%s}"

/* A small bundle with something more in process, at the top, in linux. */
static int parse(const char *process, const char *top, const char *part,
	struct th_bundle *bundle, struct th_error *err)
{
	char text[4096];

	snprintf(text, sizeof(text), "{" PROCESS "," REST "}", process, top,
		part);
	return th_bundle_parse(text, strlen(text), bundle, err);
}

static void members_are_read(void)
{
	struct th_bundle bundle;
	struct th_error err = {0};

	CHECK_INT(
		parse(",\"user\":{\"uid\":7,\"gid\":8,\"umask\":63,"
		      "\"additionalGids\":[9,10]},\"capabilities\":"
		      "{\"bounding\":[\"CAP_CHOWN\",\"CAP_KILL\"]},"
		      "\"rlimits\":[{\"type\":\"RLIMIT_NOFILE\",\"soft\":5,"
		      "\"hard\":6}],\"oomScoreAdj\":-5,"
		      "\"noNewPrivileges\":true",
			",\"hostname\":\"gauge\",\"mounts\":[{\"destination\":"
			"\"/x\",\"source\":\"/y\",\"options\":[\"rbind\","
			"\"ro\"]}]",
			",\"maskedPaths\":[\"/proc/kcore\"],\"devices\":[{"
			"\"path\":\"/dev/fuse\",\"type\":\"c\",\"major\":10,"
			"\"minor\":229,\"fileMode\":384}]",
			&bundle, &err),
		0);
	CHECK_INT(bundle.process.uid, 7);
	CHECK_INT(bundle.process.group_count, 2);
	CHECK_INT(bundle.process.umask, 077);
	CHECK_INT(bundle.process.bounding, 1 << 0 | 1 << 5);
	CHECK_INT(bundle.process.rlimits[0].limit.rlim_max, 6);
	CHECK_INT(bundle.process.oom_score_adj, -5);
	CHECK(bundle.process.no_new_privileges);
	CHECK_TEXT(bundle.mounts[0].options.items[1], "ro");
	CHECK_INT(bundle.devices[0].mode, S_IFCHR | 0600);
	CHECK(bundle.devices[0].dev == makedev(10, 229));
	CHECK_INT(bundle.namespaces, CLONE_NEWNS | CLONE_NEWUTS);
	th_bundle_release(&bundle);
}

/* Nothing that is asked for may be passed over in silence. */
static void what_cannot_be_done_is_named(void)
{
	static const struct {
		const char *process, *top, *part, *word;
		enum th_code code;
	} bad[] = {{"", "", ",\"intelRdt\":{}", "intelRdt", TH_NOT_POSSIBLE},
		{"", "", ",\"timeOffsets\":{\"boottime\":{\"secs\":1}}",
			"needs a new time namespace", TH_FAILED},
		{",\"execCPUAffinity\":{\"final\":\"tide\"}", "", "",
			"not a list of CPUs", TH_FAILED},
		{"", ",\"vm\":{}", "", "vm", TH_NOT_POSSIBLE},
		{"", "", ",\"seccomp\":{}", "defaultAction", TH_FAILED},
		{"", "", ",\"seccomp\":{\"defaultAction\":\"SCMP_ACT_SINK\"}",
			"SCMP_ACT_SINK", TH_FAILED},
		{"", "",
			",\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
			"\"flags\":[\"TIDE\"]}",
			"TIDE", TH_NOT_POSSIBLE},
		{"", "",
			",\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
			"\"syscalls\":[{\"names\":[\"read\"],\"action\":"
			"\"SCMP_ACT_ERRNO\",\"args\":[{\"index\":9,\"value\":1,"
			"\"op\":\"SCMP_CMP_EQ\"}]}]}",
			"out of range", TH_FAILED},
		{"", ",\"hooks\":{\"prestart\":[{\"path\":\"x\"}]}", "",
			"is not absolute", TH_FAILED},
		{"",
			",\"hooks\":{\"poststop\":[{\"path\":\"/x\","
			"\"timeout\":0}]}",
			"", "out of range", TH_FAILED},
		{"", "", ",\"sysctl\":{\"kernel.panic\":\"1\"}", "whole host",
			TH_NOT_POSSIBLE},
		{"", "", ",\"sysctl\":{\"net.core.somaxconn\":\"1\"}",
			"shares that namespace", TH_NOT_POSSIBLE},
		{"", "",
			",\"uidMappings\":[{\"containerID\":0,\"hostID\":1,"
			"\"size\":1}]",
			"does not create a user namespace", TH_FAILED},
		{"", "", ",\"rootfsPropagation\":\"wide\"", "wide", TH_FAILED},
		{"", "", ",\"personality\":{\"domain\":\"DOS\"}", "DOS",
			TH_FAILED},
		{"", "", ",\"resources\":{\"memory\":{\"kernel\":1}}", "kernel",
			TH_NOT_POSSIBLE},
		{"", "",
			",\"resources\":{\"devices\":[{\"allow\":true,"
			"\"access\":\"rx\"}]}",
			"rx", TH_FAILED},
		{"", "",
			",\"resources\":{\"hugepageLimits\":[{\"pageSize\":"
			"\"2XB\",\"limit\":1}]}",
			"2XB", TH_FAILED},
		{"", "", ",\"resources\":{\"unified\":{\"../x\":\"1\"}}",
			"invalid key", TH_FAILED},
		{"", ",\"mounts\":[{\"destination\":\"\"}]", "",
			"does not have a destination", TH_FAILED},
		{"", ",\"mounts\":[7]", "", "not an object", TH_FAILED},
		{",\"rlimits\":[{\"type\":\"RLIMIT_TIDE\"}]", "", "",
			"RLIMIT_TIDE", TH_FAILED},
		{",\"rlimits\":[{\"type\":\"RLIMIT_CPU\",\"soft\":1,\"hard\":1}"
		 ","
		 "{\"type\":\"RLIMIT_CPU\",\"soft\":1,\"hard\":1}]",
			"", "", "twice", TH_FAILED},
		{",\"user\":{\"uid\":-1}", "", "", "out of range", TH_FAILED},
		{",\"oomScoreAdj\":5000", "", "", "oomScoreAdj", TH_FAILED},
		{",\"ioPriority\":{\"class\":\"IOPRIO_CLASS_TIDE\"}", "", "",
			"IOPRIO_CLASS_TIDE", TH_FAILED},
		{",\"scheduler\":{\"policy\":\"SCHED_TIDE\"}", "", "",
			"SCHED_TIDE", TH_FAILED},
		{"", "", ",\"devices\":[{\"path\":\"etc/x\",\"type\":\"c\"}]",
			"is not absolute", TH_FAILED}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_bundle bundle;
		struct th_error err = {0};

		CHECK_INT(parse(bad[i].process, bad[i].top, bad[i].part,
				  &bundle, &err),
			-1);
		if (err.code != bad[i].code || !strstr(err.msg, bad[i].word))
			printf("\n    %s: %s\n", bad[i].word, err.msg);
		CHECK_INT(err.code, bad[i].code);
		CHECK(strstr(err.msg, bad[i].word) != NULL);
	}
}

/* "Runtimes ... MUST ignore unknown properties", and what other platforms
 * have. */
static void what_is_unknown_is_passed_over(void)
{
	static const struct {
		const char *process, *top, *part;
	} good[] = {{"", ",\"windows\":{},\"solaris\":{},\"zos\":{}", ""},
		{"", ",\"anchor\":1", ""}, {",\"color\":{\"a\":[]}", "", ""},
		{",\"commandLine\":\"x\"", "", ""},
		{"", ",\"hooks\":{\"sailing\":[]}", ""},
		{"", "", ",\"resources\":{\"tide\":1,\"pids\":{\"x\":1}}"},
		{"", ",\"mounts\":[{\"destination\":\"x\",\"y\":1}]", ""},
		{"", "", ",\"timeOffsets\":{},\"mountLabel\":\"\""}};
	struct th_bundle bundle;
	struct th_error err = {0};

	for (size_t i = 0; i < COUNT_OF(good); i++) {
		CHECK_INT(parse(good[i].process, good[i].top, good[i].part,
				  &bundle, &err),
			0);
		th_bundle_release(&bundle);
	}
	/* One that no kernel has is worth a warning, and only one. */
	CHECK_INT(parse(",\"capabilities\":{\"bounding\":[\"CAP_SAIL\","
			"\"CAP_CHOWN\"],\"ambient\":[\"CAP_SAIL\"]}",
			  "", "", &bundle, &err),
		0);
	CHECK_INT(bundle.process.warnings.count, 1);
	CHECK(bundle.process.bounding == 1);
	th_bundle_release(&bundle);
}

static void what_is_missing_is_named(void)
{
	static const struct {
		const char *text, *word;
	} bad[] = {{"{}", "ociVersion"},
		{"{\"ociVersion\":\"2.0\"}", "is needed"},
		{"{\"ociVersion\":\"1.0.2\"}", "not have a root"},
		{"{\"ociVersion\":\"1.0.2\",\"process\":{\"cwd\":\"/\"}}",
			"args is empty"},
		{"{\"ociVersion\":\"1.0.2\",\"process\":{\"cwd\":\"x\","
		 "\"args\":[\"x\"]}}",
			"not an absolute path"},
		{"{\"ociVersion\":\"1.0.2\",\"process\":{\"cwd\":\"/\","
		 "\"args\":[\"x\"]}}",
			"not have a root"}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_bundle bundle;
		struct th_error err = {0};

		CHECK_INT(th_bundle_parse(bad[i].text, strlen(bad[i].text),
				  &bundle, &err),
			-1);
		CHECK(strstr(err.msg, bad[i].word) != NULL);
	}
}

/* Numbers of 64 bits without a sign reach beyond what the JSON library takes.
 */
static void the_largest_numbers_are_read(void)
{
	struct th_bundle bundle;
	struct th_error err = {0};

	CHECK_INT(parse(",\"rlimits\":[{\"type\":\"RLIMIT_CORE\","
			"\"soft\":18446744073709551615,"
			"\"hard\":18446744073709551615}]",
			  "",
			  ",\"seccomp\":{\"defaultAction\":\"SCMP_ACT_ALLOW\","
			  "\"syscalls\":[{\"names\":[\"personality\"],"
			  "\"action\":\"SCMP_ACT_ERRNO\",\"errnoRet\":38,"
			  "\"args\":[{\"index\":0,\"value\":"
			  "18446744073709551614,\"op\":\"SCMP_CMP_GE\"}]}]}",
			  &bundle, &err),
		0);
	CHECK(bundle.process.rlimits[0].limit.rlim_max == RLIM_INFINITY);
	CHECK(bundle.seccomp.rules[0].arguments[0].value == UINT64_MAX - 1);
	CHECK_INT(bundle.seccomp.rules[0].error_code, 38);
	th_bundle_release(&bundle);
}

static void limits_are_read(void)
{
	struct th_bundle bundle;
	struct th_error err = {0};

	CHECK_INT(
		parse("", "",
			",\"resources\":{\"memory\":{\"limit\":1000,"
			"\"swap\":-1},\"cpu\":{\"quota\":50,\"cpus\":\"0-1\"},"
			"\"pids\":{\"limit\":7},\"blockIO\":{\"weight\":500,"
			"\"throttleReadBpsDevice\":[{\"major\":8,\"minor\":0,"
			"\"rate\":1}]},\"rdma\":{\"mlx\":{\"hcaObjects\":4}},"
			"\"unified\":{\"memory.high\":\"5\"},\"devices\":[{"
			"\"allow\":false,\"access\":\"rwm\"},{\"allow\":true,"
			"\"type\":\"c\",\"major\":1,\"minor\":3,\"access\":"
			"\"r\"}]}",
			&bundle, &err),
		0);
	CHECK_INT(bundle.resources.memory, 1000);
	CHECK_INT(bundle.resources.memory_swap, -1);
	CHECK(bundle.resources.memory_low == TH_UNSET);
	CHECK_TEXT(bundle.resources.cpus, "0-1");
	CHECK_INT(bundle.resources.pids, 7);
	CHECK_INT(bundle.resources.throttles[0][0].major_id, 8);
	CHECK_INT(bundle.resources.rdma[0].objects, 4);
	CHECK_TEXT(bundle.resources.unified.items[0], "memory.high=5");
	/* And those that every container has, but for the one that is given. */
	CHECK_INT(bundle.resources.device_count, 2 + 8);
	CHECK_INT(bundle.resources.devices[0].major_id, -1);
	CHECK(bundle.resources.devices[1].read);
	CHECK(!bundle.resources.devices[1].write);
	th_bundle_release(&bundle);
}

static const CU_TestInfo tests[] = {{"members are read", members_are_read},
	{"what cannot be done is named", what_cannot_be_done_is_named},
	{"what is unknown is passed over", what_is_unknown_is_passed_over},
	{"what is missing is named", what_is_missing_is_named},
	{"the largest numbers are read", the_largest_numbers_are_read},
	{"limits are read", limits_are_read}, CU_TEST_INFO_NULL};

const struct suite suite_bundle = {"bundle", tests};
