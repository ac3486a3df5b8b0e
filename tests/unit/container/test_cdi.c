#include "container/cdi.h"
#include "model/name.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "base/file.h"
#include "unit/unit.h"

#define HEAD "\"cdiVersion\":\"0.6.0\",\"kind\":\"selwick.example/gauge\""

static char low[300], high[300];
static const char *const folders[] = {low, high, NULL};

static void put(const char *folder, const char *name, const char *text)
{
	struct th_error err = {0};
	char path[400];

	snprintf(path, sizeof(path), "%s/%s", folder, name);
	CHECK_INT(th_file_replace(AT_FDCWD, path, text, strlen(text), 0600,
			  false, &err),
		0);
}

static void begin(void)
{
	th_tree_remove(unit_folder_fd, "low", NULL);
	th_tree_remove(unit_folder_fd, "high", NULL);
	mkdirat(unit_folder_fd, "low", 0700);
	mkdirat(unit_folder_fd, "high", 0700);
	snprintf(low, sizeof(low), "%s/low", unit_folder);
	snprintf(high, sizeof(high), "%s/high", unit_folder);
}

/* Applies the devices (cut at spaces); the config as text, to be freed, or
 * NULL. */
static char *apply(const char *names, struct th_error *err)
{
	struct th_strings applied = {0};
	json_t *config = json_object();
	char *copy = strdup(names), *text = NULL, *rest = copy, *name;
	int rc = 0;

	while (rc == 0 && (name = strsep(&rest, " ")))
		rc = th_cdi_apply(name, folders, &applied, config, err);
	if (rc == 0)
		text = json_dumps(config, JSON_COMPACT | JSON_SORT_KEYS);
	th_strings_release(&applied);
	json_decref(config);
	free(copy);
	return text;
}

static void gives(const char *names, const char *wanted)
{
	struct th_error err = {0};
	char *text = apply(names, &err);

	if (!text || !strstr(text, wanted))
		printf("\n    %s: %s (%s)\n", names, text ? text : err.msg,
			err.hint);
	CHECK(text && strstr(text, wanted));
	free(text);
}

static void fails(const char *names, enum th_code code, const char *says)
{
	struct th_error err = {0};
	char *text = apply(names, &err);

	CHECK(text == NULL);
	CHECK_INT(err.code, code);
	if (!strstr(err.msg, says) && !strstr(err.hint, says))
		printf("\n    %s: %s (%s)\n", names, err.msg, err.hint);
	CHECK(strstr(err.msg, says) || strstr(err.hint, says));
	free(text);
}

static void both_kinds_of_files_are_read(void)
{
	begin();
	put(low, "a.json",
		"{" HEAD ",\"containerEdits\":{\"env\":[\"A=1\"]},\"devices\":["
		"{\"name\":\"north\",\"containerEdits\":{\"env\":[\"N=1\"]}},{"
		"\"name\":\"1.b:c_d\",\"containerEdits\":{\"env\":[\"B=1\"]}}]"
		"}");
	put(low, "b.yaml",
		"cdiVersion: 0.8.0\nkind: selwick.example/lamp.big\n"
		"containerEdits:\n  additionalGids: [0, 5]\ndevices:\n"
		"- name: red\n  containerEdits:\n    deviceNodes:\n"
		"    - path: /dev/red\n      type: c\n      major: 7\n"
		"      minor: 0x10\n      fileMode: 0640\n      uid: 3\n"
		"      permissions: rw\n    env: [\"RED=yes\"]\n    hooks:\n"
		"    - hookName: createContainer\n      path: /bin/true\n"
		"      timeout: 5\n");
	/* What the file says for all of them comes once. */
	gives("selwick.example/gauge=north selwick.example/gauge=1.b:c_d",
		"\"env\":[\"A=1\",\"N=1\",\"B=1\"]");
	gives("selwick.example/lamp.big=red",
		"\"devices\":[{\"fileMode\":416,\"major\":7,\"minor\":16,"
		"\"path\":\"/dev/"
		"red\",\"type\":\"c\",\"uid\":3}],\"resources\":"
		"{\"devices\":[{\"access\":\"rw\",\"allow\":true,\"major\":7,"
		"\"minor\":16,\"type\":\"c\"}]}");
	gives("selwick.example/lamp.big=red", "\"additionalGids\":[5]");
	gives("selwick.example/lamp.big=red",
		"\"createContainer\":[{\"path\":\"/bin/true\",\"timeout\":5}]");
}

static void later_folders_win_and_conflicts_are_told(void)
{
	begin();
	put(low, "a.json",
		"{" HEAD
		",\"devices\":[{\"name\":\"north\",\"containerEdits\":{"
		"\"env\":[\"FROM=low\"]}},{\"name\":\"south\"}]}");
	put(high, "a.json",
		"{" HEAD
		",\"devices\":[{\"name\":\"north\",\"containerEdits\":{"
		"\"env\":[\"FROM=high\"]}}]}");
	gives("selwick.example/gauge=north", "FROM=high");
	put(high, "b.json", "{" HEAD ",\"devices\":[{\"name\":\"north\"}]}");
	fails("selwick.example/gauge=north", TH_USAGE, "described twice");
	/* The others are none the worse for it. */
	gives("selwick.example/gauge=south", "{}");
}

static void a_broken_file_stops_no_other(void)
{
	static const char *const broken[] = {"{", "[]", "{}",
		"{\"cdiVersion\":\"0.6.0\",\"kind\":\"none\",\"devices\":[]}",
		"{" HEAD ",\"devices\":[{\"name\":\"-x\"}]}",
		"{\"cdiVersion\":\"1.9.0\",\"kind\":\"a.b/c\",\"devices\":[]}",
		"{\"kind\":\"a.b/c\",\"devices\":[]}"};

	for (size_t i = 0; i < COUNT_OF(broken); i++) {
		begin();
		put(high, "0.json", broken[i]);
		put(high, "1.yaml", "a: [");
		put(high, "2.txt", "nothing");
		put(low, "a.json", "{" HEAD ",\"devices\":[{\"name\":\"n\"}]}");
		gives("selwick.example/gauge=n", "{}");
		fails("selwick.example/gauge=x", TH_NOT_FOUND,
			"a file is of no use");
	}
	begin();
	put(low, "new.json",
		"{\"cdiVersion\":\"1.9.0\",\"kind\":\"selwick.example/gauge\","
		"\"devices\":[{\"name\":\"n\"}]}");
	fails("selwick.example/gauge=n", TH_NOT_FOUND,
		"0.3.0 to 0.8.0 are supported");
}

static void names_have_a_grammar(void)
{
	static const char *const good[] = {"a/b=c", "selwick.example/gauge=0",
		"v-1_2.x/c-l_a.s=n.a:m-e_1"};
	static const char *const bad[] = {"", "a", "a/b", "a=b", "/b=c", "a/=c",
		"a/b=", "1a/b=c", "a/1b=c", "a-/b=c", "a/b-=c", "a/b=c-",
		"a/b=.c", "a b/c=d", "a/b/c=d", "a/b=c d", "a/b=c/d"};

	for (size_t i = 0; i < COUNT_OF(good); i++)
		CHECK(th_device_name_valid(good[i]));
	for (size_t i = 0; i < COUNT_OF(bad); i++)
		CHECK(!th_device_name_valid(bad[i]));
	begin();
	fails("not a name", TH_USAGE, "is not the name of a device");
}

static void edits_are_done_or_refused(void)
{
	static const struct {
		const char *edits, *gives, *says;
		enum th_code code;
	} cases[] = {{"{\"mounts\":[{\"hostPath\":\"/a\",\"containerPath\":"
		      "\"/b\",\"options\":[\"rbind\",\"ro\",\"nosuid\"]}]}",
			     "\"options\":[\"rbind\",\"ro\",\"nosuid\"],"
			     "\"source\":\"/a\",\"type\":\"bind\"",
			     NULL, 0},
		{"{\"mounts\":[{\"hostPath\":\"t\",\"containerPath\":\"/b\","
		 "\"type\":\"tmpfs\",\"options\":[\"size=1m\"]}]}",
			"\"options\":[\"size=1m\"],\"source\":\"t\",\"type\":"
			"\"tmpfs\"",
			NULL, 0},
		{"{\"mounts\":[{\"hostPath\":\"/a\"}]}", NULL,
			"no containerPath", TH_FAILED},
		{"{\"mounts\":[{\"hostPath\":\"/a\",\"containerPath\":\"/b\","
		 "\"options\":[1]}]}",
			NULL, "options", TH_FAILED},
		{"{\"deviceNodes\":[{\"path\":\"/dev/null\"}]}",
			"\"path\":\"/dev/null\",\"type\":\"c\"", NULL, 0},
		{"{\"deviceNodes\":[{\"path\":\"/dev/x\",\"hostPath\":"
		 "\"/dev/null\"}]}",
			"\"path\":\"/dev/x\",\"type\":\"c\"", NULL, 0},
		{"{\"deviceNodes\":[{\"path\":\"/dev/none\"}]}", NULL,
			"does not exist", TH_NOT_FOUND},
		{"{\"deviceNodes\":[{\"path\":\"/dev/x\",\"type\":\"p\"}]}",
			"\"path\":\"/dev/x\",\"type\":\"p\"", NULL, 0},
		{"{\"deviceNodes\":[{\"path\":\"/dev/x\",\"type\":\"y\"}]}",
			NULL, "not the type", TH_FAILED},
		{"{\"deviceNodes\":[{\"path\":\"/dev/null\",\"permissions\":"
		 "\"x\"}]}",
			NULL, "not a permission", TH_FAILED},
		{"{\"hooks\":[{\"hookName\":\"sail\",\"path\":\"/x\"}]}", NULL,
			"hookName", TH_FAILED},
		{"{\"env\":[\"X\"]}", NULL, "NAME=VALUE", TH_FAILED},
		{"{\"additionalGids\":[-1]}", NULL, "group ID", TH_FAILED},
		{"{\"intelRdt\":{\"closID\":\"x\"}}", NULL, "intelRdt",
			TH_NOT_POSSIBLE},
		{"{\"netDevices\":[{}]}", NULL, "netDevices", TH_NOT_POSSIBLE},
		{"{\"intelRdt\":null}", "{", NULL, 0}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		char text[600];

		begin();
		snprintf(text, sizeof(text),
			"{" HEAD ",\"devices\":[{\"name\":\"n\","
			"\"containerEdits\":%s}]}",
			cases[i].edits);
		put(low, "a.json", text);
		if (cases[i].gives)
			gives("selwick.example/gauge=n", cases[i].gives);
		else
			fails("selwick.example/gauge=n", cases[i].code,
				cases[i].says);
	}
}

static const CU_TestInfo tests[] = {
	{"both kinds of files are read", both_kinds_of_files_are_read},
	{"later folders win, conflicts are told",
		later_folders_win_and_conflicts_are_told},
	{"a broken file stops no other", a_broken_file_stops_no_other},
	{"names have a grammar", names_have_a_grammar},
	{"edits are done or refused", edits_are_done_or_refused},
	CU_TEST_INFO_NULL};

const struct suite suite_cdi = {"cdi", tests};
