/* What settings mean: from the text there, into JSON and back, and to a text
 * that means the same. */
#include <stdlib.h>
#include <string.h>

#include "model/settings.h"
#include "unit/unit.h"

static void ports_come_back(void)
{
	static const char *const cases[][2] = {{"80", "80"}, {"80/tcp", "80"},
		{"80=8080", "80=8080"},
		{"80=127.0.0.1:8080", "80=127.0.0.1:8080"},
		{"80=[::1]:8080", "80=[::1]:8080"},
		{"53=5353/udp", "53=5353/udp"},
		{"8000-8009=9000-9009", "8000-8009=9000-9009"},
		{"7000-7001", "7000-7001"},
		{"80=8080,handoff", "80=8080,handoff"}, {"53/udp", "53/udp"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_port *ports = NULL, *again = NULL;
		struct th_strings texts = {0};
		size_t count = 0, again_count = 0;
		json_t *doc;

		CHECK_INT(th_port_parse(cases[i][0], &ports, &count, NULL), 0);
		doc = th_ports_to_json(ports, count);
		CHECK_INT(
			th_ports_from_json(doc, &again, &again_count, NULL), 0);
		CHECK_INT(again_count, count);
		CHECK(again_count == count &&
			memcmp(ports, again, count * sizeof(*ports)) == 0);
		CHECK_INT(th_ports_format(again, again_count, &texts), 0);
		CHECK_INT(texts.count, 1);
		CHECK_TEXT(texts.items[0], cases[i][1]);
		th_strings_release(&texts);
		json_decref(doc);
		free(ports);
		free(again);
	}
}

/* Only what really is a row is written as one. */
static void neighbours_of_other_kinds_stay_apart(void)
{
	static const char *const texts[] = {
		"80=8080", "81=8081/udp", "82=8082", "83=9000", "84", "85"};
	static const char *const out[] = {
		"80=8080", "81=8081/udp", "82=8082", "83=9000", "84-85"};
	struct th_port *ports = NULL;
	struct th_strings list = {0};
	size_t count = 0;

	for (size_t i = 0; i < COUNT_OF(texts); i++)
		CHECK_INT(th_port_parse(texts[i], &ports, &count, NULL), 0);
	CHECK_INT(th_ports_format(ports, count, &list), 0);
	CHECK_INT(list.count, COUNT_OF(out));
	for (size_t i = 0; i < list.count && i < COUNT_OF(out); i++)
		CHECK_TEXT(list.items[i], out[i]);
	th_strings_release(&list);
	free(ports);
}

static void wrong_ports_are_refused(void)
{
	static const char long_address[] =
		"[{\"port\": 80, \"address\": "
		"\"0123456789012345678901234567890123456789012345678\"}]";
	static const char *const bad[] = {"[{}]", "[{\"port\": 0}]",
		"[{\"port\": 80, \"host-port\": 65536}]",
		"[{\"port\": 80, \"address\": 4}]", "[7]", long_address};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		json_t *doc = json_loads(bad[i], 0, NULL);
		struct th_port *ports = NULL;
		struct th_error err = {0};
		size_t count = 0;

		CHECK_INT(th_ports_from_json(doc, &ports, &count, &err), -1);
		CHECK(err.msg[0] != '\0');
		free(ports);
		json_decref(doc);
	}
}

static void mounts_come_back(void)
{
	static const char *const cases[][2] = {
		{"/data=./ledger", "/data=/home/pilot/ledger"},
		{"/data=/srv/a,ro,make", "/data=/srv/a,ro,make"},
		{"/d=/s,map=me,label=mine", "/d=/s,map=me,label=mine"},
		{"/d=/s,label=all,propagate=slave",
			"/d=/s,label=all,propagate=slave"},
		{"/log=volume:log,ro", "/log=volume:log,ro"},
		{"/tmp=memory", "/tmp=memory"},
		{"/tmp=memory:64M", "/tmp=memory:64M"},
		{"/tmp=memory:1.5G", "/tmp=memory:1536M"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_mount_setting mount, again, third;
		char *text;
		json_t *doc, *same;

		CHECK_INT(th_mount_parse(
				  cases[i][0], "/home/pilot", &mount, NULL),
			0);
		doc = th_mount_to_json(&mount);
		CHECK_INT(th_mount_from_json(doc, &again, NULL), 0);
		text = th_mount_format(&again);
		CHECK_TEXT(text, cases[i][1]);
		CHECK_INT(th_mount_parse(text, "/elsewhere", &third, NULL), 0);
		same = th_mount_to_json(&third);
		CHECK(json_equal(doc, same));
		th_mount_release(&mount);
		th_mount_release(&again);
		th_mount_release(&third);
		json_decref(doc);
		json_decref(same);
		free(text);
	}
}

static void wrong_mounts_are_refused(void)
{
	static const char far[] =
		"{\"kind\": \"memory\", \"target\": \"/a\", \"label\": "
		"\"\", \"propagate\": \"far\"}";
	static const char less[] =
		"{\"kind\": \"memory\", \"target\": \"/a\", \"label\": "
		"\"\", \"size\": -1}";
	static const char *const bad[] = {"{}",
		"{\"kind\": \"folder\", \"target\": \"/a\", \"label\": \"\"}",
		"{\"kind\": \"volume\", \"target\": \"/a\", \"label\": \"\"}",
		"{\"kind\": \"boat\", \"target\": \"/a\", \"label\": \"\"}",
		"{\"kind\": \"memory\", \"label\": \"\"}",
		"{\"kind\": \"memory\", \"target\": \"/a\", \"label\": \"no\"}",
		far, less};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		json_t *doc = json_loads(bad[i], 0, NULL);
		struct th_mount_setting mount;
		struct th_error err = {0};

		CHECK_INT(th_mount_from_json(doc, &mount, &err), -1);
		CHECK(err.msg[0] != '\0');
		th_mount_release(&mount);
		json_decref(doc);
	}
}

static void networks_come_back(void)
{
	static const char *const cases[][2] = {{"berths", "berths"},
		{"berths,address=10.20.0.9", "berths,address=10.20.0.9"},
		{"berths,address=fd20:0::9,address=10.20.0.9",
			"berths,address=10.20.0.9,address=fd20::9"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_network_use use, again;
		json_t *doc;
		char *text;

		CHECK_INT(th_network_use_parse(cases[i][0], &use, NULL), 0);
		doc = th_network_use_to_json(&use);
		CHECK_INT(th_network_use_from_json(doc, &again, NULL), 0);
		text = th_network_use_format(&again);
		CHECK_TEXT(text, cases[i][1]);
		free(text);
		json_decref(doc);
	}
}

static void limits_come_back(void)
{
	static const char *const cases[] = {"", "memory=256M",
		"memory=1G,swap=2G,cpu=1.5,processes=200,io=300",
		"processes=none", "cpu=0.25", "memory=524289"};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_limit limit = {0}, again;
		char text[TH_LIMIT_TEXT];
		json_t *doc;

		CHECK_INT(th_limit_parse(cases[i], &limit, NULL), 0);
		doc = th_limit_to_json(&limit);
		CHECK_INT(th_limit_from_json(doc, &again, NULL), 0);
		CHECK(memcmp(&limit, &again, sizeof(limit)) == 0);
		th_limit_format(&again, text);
		CHECK_TEXT(text, cases[i]);
		json_decref(doc);
	}
}

static void log_settings_come_back(void)
{
	static const char *const cases[][2] = {{"", ""},
		{"size=64M,files=16", ""}, {"size=1M", "size=1M"},
		{"files=3,size=64K", "size=64K,files=3"},
		{"journal", "journal"},
		{"journal,files=10000", "files=10000,journal"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_log_settings log, again;
		char text[TH_LOG_TEXT];
		json_t *doc;

		CHECK_INT(th_log_settings_parse(cases[i][0], &log, NULL), 0);
		doc = th_log_settings_to_json(&log);
		CHECK_INT(th_log_settings_from_json(doc, &again, NULL), 0);
		th_log_settings_format(&again, text);
		CHECK_TEXT(text, cases[i][1]);
		CHECK_INT(th_log_settings_parse(text, &log, NULL), 0);
		CHECK_INT(log.size_bytes, again.size_bytes);
		CHECK_INT(log.files, again.files);
		CHECK_INT(log.journal, again.journal);
		json_decref(doc);
	}
}

static void policies_come_back(void)
{
	static const char *const cases[][2] = {{"", "never"},
		{"never", "never"}, {"always", "always"},
		{"on-failure,tries=5", "on-failure,tries=5"},
		{"on-ailing", "on-ailing"},
		{"on-failure,on-ailing", "on-ailing"},
		{"always,on-ailing,delay=500ms",
			"always,on-ailing,delay=500ms"},
		{"always,delay=2m", "always,delay=2m"},
		{"always,ceiling=2m,reset=10m,delay=3s",
			"always,delay=3s,ceiling=2m,reset=10m"},
		{"always,delay=1m,ceiling=1s", "always,delay=1m"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_policy policy, again;
		char text[TH_POLICY_TEXT];
		json_t *doc, *same;

		CHECK_INT(th_policy_parse(cases[i][0], &policy, NULL), 0);
		doc = th_policy_to_json(&policy);
		CHECK_INT(th_policy_from_json(doc, &again, NULL), 0);
		th_policy_format(&again, text);
		CHECK_TEXT(text, cases[i][1]);
		CHECK_INT(th_policy_parse(text, &policy, NULL), 0);
		same = th_policy_to_json(&policy);
		CHECK(json_equal(doc, same));
		json_decref(doc);
		json_decref(same);
	}
}

static void probes_come_back(void)
{
	static const char *const cases[][2] = {{"", ""},
		{"tcp:7070", "tcp:7070"}, {"http:80", "http:80"},
		{"http:80/health,every=2s,accept=300-399,accept=404",
			"http:80/"
			"health,every=2s,accept=300-399,accept=404-404"},
		{"exec:check tide", "exec:check tide"},
		{"exec:sh -c 'test -e /a b'", "exec:sh -c 'test -e /a b'"},
		{"exec:say \"it's\" ''", "exec:say 'it'\"'s\" \"\""},
		{"exec:say \"a,\"limit=3,b", "exec:say 'a,''limit=3,b'"},
		{"exec:say 'a\"b',limit=2,grace=0s,timeout=1m",
			"exec:say 'a\"b',timeout=1m,grace=0s,limit=2"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_probe probe, again;
		json_t *doc, *same;
		char *text;

		CHECK_INT(th_probe_parse(cases[i][0], &probe, NULL), 0);
		doc = th_probe_to_json(&probe);
		CHECK_INT(th_probe_from_json(doc, &again, NULL), 0);
		text = th_probe_format(&again);
		CHECK_TEXT(text, cases[i][1]);
		th_probe_release(&probe);
		CHECK_INT(th_probe_parse(text, &probe, NULL), 0);
		same = th_probe_to_json(&probe);
		CHECK(json_equal(doc, same));
		th_probe_release(&probe);
		th_probe_release(&again);
		json_decref(doc);
		json_decref(same);
		free(text);
	}
}

static void wrong_policies_and_probes_are_refused(void)
{
	static const char *const policies[] = {"{}", "{\"kind\": \"maybe\"}",
		"{\"kind\": \"always\", \"tries\": -1}",
		"{\"kind\": \"always\", \"delay-ms\": 0}",
		"{\"kind\": \"always\", \"ceiling-ms\": 1}"};
	static const char *const probes[] = {"{}", "{\"kind\": \"look\"}",
		"{\"kind\": \"exec\"}", "{\"kind\": \"tcp\", \"port\": 65536}",
		"{\"kind\": \"tcp\", \"port\": 1, \"limit\": 0}",
		"{\"kind\": \"http\", \"port\": 1, \"accept\": [[1]]}"};

	for (size_t i = 0; i < COUNT_OF(policies); i++) {
		json_t *doc = json_loads(policies[i], 0, NULL);
		struct th_policy policy;

		CHECK_INT(th_policy_from_json(doc, &policy, NULL), -1);
		json_decref(doc);
	}
	for (size_t i = 0; i < COUNT_OF(probes); i++) {
		json_t *doc = json_loads(probes[i], 0, NULL);
		struct th_probe probe;

		CHECK_INT(th_probe_from_json(doc, &probe, NULL), -1);
		json_decref(doc);
	}
}

static void every_setting_is_found(void)
{
	struct th_settings settings = {0};

	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		CHECK(th_setting_find(one->name) == one);
		CHECK(th_setting_place(one, &settings) >= (void *)&settings);
	}
	CHECK(th_setting_find("sail") == NULL);
}

/* What has been read is not read again: one mount stays one. */
static void settings_are_read_once(void)
{
	struct th_settings settings = {.base = "/", .probe_text = "tcp:80"};
	struct th_problems problems = {0};

	th_strings_add(&settings.mount_texts, "/a=/b");
	th_strings_add(&settings.port_texts, "declared");
	th_settings_parse(&settings, &problems);
	th_settings_parse(&settings, &problems);
	CHECK_INT(problems.count, 0);
	CHECK_INT(settings.mount_count, 1);
	CHECK_INT(settings.network_count, 1);
	CHECK_TEXT(settings.network, TH_NETWORK_DEFAULT);
	CHECK(settings.declared_ports && settings.port_count == 0);
	CHECK_INT(settings.probe.kind, TH_PROBE_TCP);
	th_settings_release(&settings);
	th_problems_release(&problems);
}

static const CU_TestInfo tests[] = {{"ports come back", ports_come_back},
	{"neighbours stay apart", neighbours_of_other_kinds_stay_apart},
	{"wrong ports", wrong_ports_are_refused},
	{"mounts come back", mounts_come_back},
	{"wrong mounts", wrong_mounts_are_refused},
	{"networks come back", networks_come_back},
	{"limits come back", limits_come_back},
	{"log settings come back", log_settings_come_back},
	{"policies come back", policies_come_back},
	{"probes come back", probes_come_back},
	{"wrong policies and probes", wrong_policies_and_probes_are_refused},
	{"every setting is found", every_setting_is_found},
	{"settings are read once", settings_are_read_once}, CU_TEST_INFO_NULL};

const struct suite suite_types = {"types", tests};
