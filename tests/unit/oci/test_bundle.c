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
	"\"linux\":{\"namespaces\":[{\"type\":\"mount\"}]%s}"

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
	CHECK_INT(bundle.namespaces, CLONE_NEWNS);
	th_bundle_release(&bundle);
}

/* Nothing that is asked for may be passed over in silence. */
static void what_cannot_be_done_is_named(void)
{
	static const struct {
		const char *process, *top, *part, *word;
		enum th_code code;
	} bad[] = {{",\"selinuxLabel\":\"x\"", "", "", "selinuxLabel",
			   TH_NOT_POSSIBLE},
		{"", ",\"hooks\":{}", "", "hooks", TH_NOT_POSSIBLE},
		{"", "", ",\"intelRdt\":{}", "intelRdt", TH_NOT_POSSIBLE},
		{"", "", ",\"seccomp\":{}", "seccomp", TH_NOT_POSSIBLE},
		{"", ",\"anchor\":1", "", "anchor", TH_FAILED},
		{",\"color\":1", "", "", "color", TH_FAILED},
		{"", ",\"mounts\":[{\"destination\":\"x\"}]", "",
			"not an absolute path", TH_FAILED},
		{"", ",\"mounts\":[7]", "", "no object", TH_FAILED},
		{",\"capabilities\":{\"bounding\":[\"CAP_SAIL\"]}", "", "",
			"CAP_SAIL", TH_FAILED},
		{",\"rlimits\":[{\"type\":\"RLIMIT_TIDE\"}]", "", "",
			"RLIMIT_TIDE", TH_FAILED},
		{",\"user\":{\"uid\":-1}", "", "", "out of range", TH_FAILED},
		{",\"oomScoreAdj\":5000", "", "", "oomScoreAdj", TH_FAILED},
		{"", "", ",\"devices\":[{\"path\":\"/etc/x\",\"type\":\"c\"}]",
			"not below /dev", TH_FAILED}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_bundle bundle;
		struct th_error err = {0};

		CHECK_INT(parse(bad[i].process, bad[i].top, bad[i].part,
				  &bundle, &err),
			-1);
		CHECK_INT(err.code, bad[i].code);
		CHECK(strstr(err.msg, bad[i].word) != NULL);
	}
}

static void what_is_missing_is_named(void)
{
	static const struct {
		const char *text, *word;
	} bad[] = {{"{}", "version"},
		{"{\"ociVersion\":\"2.0\"}", "1.x is needed"},
		{"{\"ociVersion\":\"1.0.2\"}", "no process"},
		{"{\"ociVersion\":\"1.0.2\",\"process\":{\"cwd\":\"/\"}}",
			"args is empty"},
		{"{\"ociVersion\":\"1.0.2\",\"process\":{\"cwd\":\"x\","
		 "\"args\":[\"x\"]}}",
			"not an absolute path"},
		{"{\"ociVersion\":\"1.0.2\",\"process\":{\"cwd\":\"/\","
		 "\"args\":[\"x\"]}}",
			"no root"}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_bundle bundle;
		struct th_error err = {0};

		CHECK_INT(th_bundle_parse(bad[i].text, strlen(bad[i].text),
				  &bundle, &err),
			-1);
		CHECK(strstr(err.msg, bad[i].word) != NULL);
	}
}

static const CU_TestInfo tests[] = {{"members are read", members_are_read},
	{"what cannot be done is named", what_cannot_be_done_is_named},
	{"what is missing is named", what_is_missing_is_named},
	CU_TEST_INFO_NULL};

const struct suite suite_bundle = {"bundle", tests};
