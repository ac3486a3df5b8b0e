#include "model/settings.h"
#include "base/size.h"

#include <string.h>

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
	{"mounts are read", mounts_are_read},
	{"stop settings are read", stop_settings_are_read},
	{"all problems are told at once", all_problems_are_told_at_once},
	{"signals have names and numbers", signals_have_names_and_numbers},
	{"sizes are read", sizes_are_read}, CU_TEST_INFO_NULL};

const struct suite suite_settings = {"settings", tests};
