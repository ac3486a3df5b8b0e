#include "model/settings.h"
#include "base/size.h"

#include <stdio.h>
#include <string.h>

#include "tidyhull/tidyhull.h"

#include "unit/unit.h"

/* The problems that one setting makes. */
static void check(const char *kind, const char *text, struct th_settings *out,
	struct th_problems *problems)
{
	memset(out, 0, sizeof(*out));
	memset(problems, 0, sizeof(*problems));
	out->base = "/home/pilot";
	if (strcmp(kind, "mount") == 0)
		th_strings_add(&out->mount_texts, text);
	else if (strcmp(kind, "port") == 0)
		th_strings_add(&out->port_texts, text);
	else if (strcmp(kind, "capability") == 0)
		th_strings_add(&out->capabilities, text);
	else if (strcmp(kind, "name") == 0)
		out->name = text;
	else if (strcmp(kind, "stop") == 0)
		out->stop_text = text;
	else if (strcmp(kind, "hostname") == 0)
		out->hostname = text;
	else if (strcmp(kind, "workdir") == 0)
		out->workdir = text;
	else
		th_strings_add(&out->network_texts, text);
	th_settings_parse(out, problems);
}

static void wrong_settings_are_problems_with_a_way_out(void)
{
	static const char *const bad[][2] = {{"mount", "data=./x"},
		{"mount", "/data"}, {"mount", "/data="}, {"mount", "/=./x"},
		{"mount", "/data=./x,rw"}, {"mount", "/data=memory:many"},
		{"mount", "/data=volume:-"}, {"port", "http"}, {"port", "0"},
		{"port", "80=70000"}, {"port", "80-82=90-91"},
		{"port", "80/sctp"}, {"port", "80=1.2.3:80"},
		{"port", "80=[::1:80"}, {"port", "80="}, {"name", ""},
		{"name", "-a"}, {"name", "a b"}, {"name", "a/b"},
		{"stop", "signal=ANCHOR"}, {"stop", "grace=soon"},
		{"stop", "INT"}, {"hostname", "a_b"}, {"workdir", "srv"},
		{"network", "a b"}, {"capability", "CHOWN"},
		{"capability", "+SAIL"}, {"capability", ""}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_settings settings;
		struct th_problems problems;

		check(bad[i][0], bad[i][1], &settings, &problems);
		CHECK_INT(problems.count, 1);
		if (problems.count)
			CHECK(problems.list[0].msg[0] != '\0');
		th_problems_release(&problems);
		th_settings_release(&settings);
	}
}

/* Values that are nearly right, and what was meant. */
static void hints_name_the_value(void)
{
	static const char *const near[][3] = {
		{"port", "80=localhost:8080", "--port 80=127.0.0.1:8080"},
		{"port", "localhost:8080=80", "--port 80=127.0.0.1:8080"},
		{"port", "80 8080", "--port 80=8080"},
		{"port", "80 = 8080", "--port 80=8080"},
		{"port", "http=8080", "--port 80=8080"},
		{"port", "53/udp=5353", "--port 53=5353/udp"},
		{"port", "80=0.0.0.0", "--port 80=0.0.0.0:80"},
		{"port", "8080:80:udp", "--port 80=8080/udp"},
		{"port", "80=8080,8081", "an option of its own"},
		{"port", "80/sctp", "tcp and udp"},
		{"port", "0=8080", "from 1 to 65535"},
		{"mount", "/srv:./site", "--mount /srv=./site"},
		{"mount", "/srv:data", "--mount /srv=volume:data"},
		{"mount", "volume:data:/srv", "--mount /srv=volume:data"},
		{"mount", "/srv=./site,readonly", "--mount /srv=./site,ro"},
		{"mount", "/srv=./site,rw", "--mount /srv=./site"},
		{"limit", "100M", "--limit memory=100M"},
		{"limit", "1.5", "--limit cpu=1.5"},
		{"limit", "memory:64M", "--limit memory=64M"},
		{"limit", "memory=64MB", "--limit memory=64M"},
		{"limit", "pids=20", "--limit processes=20"},
		{"limit", "memory=64M cpu=1", "--limit memory=64M,cpu=1"},
		{"restart", "yes", "--restart always"},
		{"restart", "alway", "--restart always"},
		{"restart", "on-failure:3", "--restart on-failure,tries=3"},
		{"restart", "on-failure,3", "--restart on-failure,tries=3"},
		{"stop", "INT", "--stop signal=INT"},
		{"stop", "30s", "--stop grace=30s"},
		{"stop", "signal=HUPP", "did you mean HUP?"},
		{"capability", "NET_ADMIN", "--capability +NET_ADMIN"},
		{"capability", "+CAP_CHOWN", "--capability +CHOWN"},
		{"capability", "-net-raw", "--capability -NET_RAW"},
		{"capability", "all", "for example"},
		{"host", "web:192.0.2.7", "--host web=192.0.2.7"},
		{"host", "192.0.2.7=web", "--host web=192.0.2.7"},
		{"network", "container:web", "--network with:web"},
		{"share", "homes", "--share home"},
		{"share", "home=yes", "--share home"},
		{"allow", "syscall", "--allow syscalls"},
		{"device", "null", "--device /dev/null"},
		{"device", "x:/dev/null", "--device /dev/null"},
		{"log", "none", "there is always a log"},
		{"log", "10M", "--log size=10M"},
		{"log", "max-file=3", "--log files=3"},
		{"probe", "http://localhost:80/x", "--probe http:80/x"},
		{"probe", "/health", "--probe http:80/health"},
		{"probe", "8080", "--probe tcp:8080"},
		{"probe", "test -e /x", "--probe 'exec:test -e /x'"},
		{"hostname", "my host", "--hostname my-host"},
		{"name", "my web", "--name my-web"}};

	for (size_t i = 0; i < COUNT_OF(near); i++) {
		struct th_error err = {0};
		bool says;

		CHECK_INT(th_setting_check(near[i][0], near[i][1], &err), -1);
		says = strstr(err.hint, near[i][2]) != NULL;
		if (!says)
			printf("\n    %s %s: %s\n", near[i][0], near[i][1],
				err.hint);
		CHECK(says);
	}
	CHECK_INT(th_setting_check("port", "80=8080", NULL), 0);
	CHECK_INT(th_setting_check("read-only", "x", NULL), -1);
	CHECK_INT(th_setting_check("boat", "x", NULL), -1);
}

static void mounts_are_read(void)
{
	struct th_settings settings;
	struct th_problems problems;

	check("mount", "/data/../srv=./ledger,ro,make", &settings, &problems);
	CHECK_INT(problems.count, 0);
	CHECK_TEXT(settings.mounts[0].target, "/srv");
	CHECK_TEXT(settings.mounts[0].source, "/home/pilot/ledger");
	CHECK(settings.mounts[0].readonly && settings.mounts[0].make);
	th_settings_release(&settings);
	check("mount", "/scratch=memory:64M", &settings, &problems);
	CHECK_INT(problems.count, 0);
	CHECK_INT(settings.mounts[0].kind, TH_MOUNT_MEMORY);
	CHECK_INT(settings.mounts[0].size_bytes, 64 << 20);
	th_settings_release(&settings);
	check("mount", "/a=memory-of-tides", &settings, &problems);
	CHECK_INT(settings.mounts[0].kind, TH_MOUNT_FOLDER);
	th_settings_release(&settings);
}

static void stop_settings_are_read(void)
{
	struct th_settings settings;
	struct th_problems problems;

	check("stop", "signal=INT,grace=1500ms", &settings, &problems);
	CHECK_INT(problems.count, 0);
	CHECK_INT(settings.stop_signal, 2);
	CHECK_INT(settings.grace_ms, 1500);
	th_settings_release(&settings);
}

static void all_problems_are_told_at_once(void)
{
	struct th_settings settings = {.name = "a b", .base = "/"};
	struct th_problems problems = {0};

	th_strings_add(&settings.port_texts, "x");
	th_strings_add(&settings.port_texts, "y");
	th_strings_add(&settings.mount_texts, "z");
	th_settings_parse(&settings, &problems);
	CHECK_INT(problems.count, 4);
	th_problems_release(&problems);
	th_settings_release(&settings);
}

static void signals_have_names_and_numbers(void)
{
	CHECK_INT(th_signal_parse("TERM"), 15);
	CHECK_INT(th_signal_parse("SIGINT"), 2);
	CHECK_INT(th_signal_parse("9"), 9);
	CHECK_INT(th_signal_parse("0"), -1);
	CHECK_INT(th_signal_parse("65"), -1);
	CHECK_INT(th_signal_parse("term"), -1);
	CHECK_INT(th_signal_parse(""), -1);
	CHECK_TEXT(th_signal_name(15), "TERM");
	CHECK(th_signal_name(99) == NULL);
}

static void sizes_are_read(void)
{
	uint64_t bytes;

	CHECK_INT(th_size_parse("4096", &bytes), 0);
	CHECK_INT(bytes, 4096);
	CHECK_INT(th_size_parse("1.5G", &bytes), 0);
	CHECK_INT(bytes, 1610612736);
	CHECK_INT(th_size_parse("64m", &bytes), 0);
	CHECK_INT(bytes, 64 << 20);
	CHECK_INT(th_size_parse("", &bytes), -1);
	CHECK_INT(th_size_parse("0", &bytes), -1);
	CHECK_INT(th_size_parse("-1", &bytes), -1);
	CHECK_INT(th_size_parse("1MB", &bytes), -1);
}

static const CU_TestInfo tests[] = {
	{"wrong settings are problems",
		wrong_settings_are_problems_with_a_way_out},
	{"hints name the value", hints_name_the_value},
	{"mounts are read", mounts_are_read},
	{"stop settings are read", stop_settings_are_read},
	{"all problems are told at once", all_problems_are_told_at_once},
	{"signals have names and numbers", signals_have_names_and_numbers},
	{"sizes are read", sizes_are_read}, CU_TEST_INFO_NULL};

const struct suite suite_settings = {"settings", tests};
