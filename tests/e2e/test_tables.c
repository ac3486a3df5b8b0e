/* Tables of every verb: on narrow terminals, columns chosen, watched. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "e2e/harness.h"

static char screen[OUTPUT_BYTES];

/* What it draws on a terminal of 80 columns, until it ends. */
static const char *drawn(const char *line)
{
	size_t used = 0;
	ssize_t got;
	int master;
	pid_t pid = hull_terminal(&master, "%s", line);

	while (used + 1 < sizeof(screen) &&
		(got = read(master, screen + used, sizeof(screen) - 1 - used)) >
			0)
		used += (size_t)got;
	screen[used] = '\0';
	wait_for(pid);
	close(master);
	return screen;
}

/* Without colours: each letter counts. */
static size_t widest_line(const char *text)
{
	size_t widest = 0, width = 0;

	for (; *text; text++) {
		if (*text == '\033') {
			text += strcspn(text, "m");
			continue;
		}
		width = *text == '\n' ? 0 : width + (*text != '\r');
		widest = width > widest ? width : widest;
	}
	return widest;
}

static void create_wide_ones(void)
{
	CODE(hull("create selwick/gauge --name "
		  "the-gauge-of-the-northern-mole --port 80=8080 --port "
		  "81=8081 --network none"),
		0);
	CODE(hull("create selwick/base --name short --network none"), 0);
}

static void names_are_whole_and_lines_fit(void)
{
	const char *at;

	create_wide_ones();
	/* In a pipe nothing is left out. */
	SAYS(hull("list --all")->out, "id");
	CHECK(widest_line(hull("list --all")->out) > 80);
	at = drawn("list --all");
	CHECK(widest_line(at) <= 80);
	SAYS(at, "the-gauge-of-the-northern-mole");
	SAYS(at, "selwick/base");
	CHECK(strstr(at, field("short", "id")) == NULL);
	/* Chosen columns are all there. */
	at = drawn("list --all --columns id,container,state,image");
	SAYS(at, field("short", "id"));
	SAYS(at, "image");
	CODE(hull("remove the-gauge-of-the-northern-mole short"), 0);
}

/* Between words, so that each can be read and copied. */
static void long_texts_are_broken(void)
{
	const char *at, *first, *second;

	CODE(hull("launch selwick/base --name work --network none -- sleep "
		  "4711"),
		0);
	CODE(hull("exec work --background -- sh -c 'sleep 4711; echo alpha "
		  "beta gamma delta epsilon zeta eta theta iota kappa lambda "
		  "my ny xi'"),
		0);
	at = drawn("list sessions");
	CHECK(widest_line(at) <= 80);
	first = strstr(at, "alpha");
	second = strstr(at, "xi");
	CHECK(first && second && memchr(first, '\n', (size_t)(second - first)));
	CODE(hull("remove --force work"), 0);
}

static void columns_of_every_table(void)
{
	static const char *const lines[] = {"ports gauge", "processes gauge",
		"list networks", "list volumes", "changes gauge", "list images",
		"find gauge", "list"};
	char line[200];

	CODE(hull("launch selwick/gauge --name gauge --port 80=8080 --mount "
		  "/data=volume:tides --network harbour"),
		0);
	CODE(hull("exec gauge -- sh -c 'echo x > /made'"), 0);
	/* Of those that are not shown nothing is said then, either. */
	CODE(hull("run --keep --name done --network none selwick/base -- true"),
		0);
	for (size_t i = 0; i < COUNT_OF(lines); i++) {
		struct result *result;

		CODE(hull("%s", lines[i]), 0);
		snprintf(line, sizeof(line), "%s --columns anchor", lines[i]);
		result = hull("%s", line);
		CODE(result, 2);
		SAYS(result->err, "there is no column \"anchor\"");
		CHECK_TEXT(result->out, "");
		CODE(hull("%s --columns ''", lines[i]), 2);
		CODE(hull("%s --sort x --json", lines[i]), 2);
	}
	CHECK_TEXT(hull("ports --columns inside --sort inside")->out,
		"inside\n80/tcp\n80/tcp\n");
	SAYS(hull("processes gauge --columns command --sort -inside")->out,
		"/usr/bin/gauge\nreaper");
	CODE(hull("remove --force gauge done"), 0);
	CODE(hull("remove volume:tides network:harbour"), 0);
}

/* Until Ctrl-C, which is no failure. */
static void watched(void)
{
	int master;
	pid_t pid;

	create_wide_ones();
	CODE(hull("ports --watch"), 2);
	pid = hull_terminal(&master, "list --all --watch");
	CHECK(screen_until(master, screen, "short"));
	CODE(hull("rename short shorter"), 0);
	CHECK(screen_until(master, screen, "shorter"));
	type_keys(master, "\003");
	CHECK_INT(wait_for(pid), 0);
	close(master);
	CODE(hull("remove the-gauge-of-the-northern-mole shorter"), 0);
}

static void the_meter_takes_keys(void)
{
	int master;
	pid_t pid;

	CODE(hull("launch selwick/base --name work --network none -- sleep "
		  "4711"),
		0);
	CODE(hull("launch selwick/base --name other --network none -- sleep "
		  "4711"),
		0);
	pid = hull_terminal(&master, "meter --sort cpu");
	CHECK(screen_until(master, screen, "2 containers running"));
	CHECK(screen_until(master, screen, "q: quit"));
	/* Down, then all of one; back, and a key that means nothing. */
	type_keys(master, "a\033OB\033OB\r");
	CHECK(screen_until(master, screen, "processes; the last"));
	type_keys(master, "\r\033x");
	CHECK(screen_until(master, screen, "2 containers running"));
	/* Disks instead of the network, as there is no room for both. */
	type_keys(master, "d");
	CHECK(screen_until(master, screen, "written"));
	CODE(hull("remove --force other"), 0);
	CHECK(screen_until(master, screen, " running: CPU"));
	type_keys(master, "q");
	CHECK_INT(wait_for(pid), 0);
	close(master);
	pid = hull_terminal(&master, "meter");
	CHECK(screen_until(master, screen, "q: quit"));
	type_keys(master, "\003");
	CHECK_INT(wait_for(pid), 0);
	close(master);
	CODE(hull("remove --force work"), 0);
}

static bool has_two_readings(void *arg)
{
	(void)arg;
	return count_lines_with("readings", "\"time\"", "cpu-percent") >= 2;
}

static void readings_line_by_line(void)
{
	json_t *doc;
	pid_t pid;

	CODE(hull("launch selwick/base --name work --network none -- sleep "
		  "4711"),
		0);
	doc = hull_json("meter --json-lines --once");
	CHECK_INT(json_array_size(json_object_get(doc, "containers")), 1);
	json_decref(doc);
	CHECK_INT(strchr(hull("meter --json-lines --once")->out, '\n')[1], 0);
	pid = hull_start("readings", "meter --json-lines");
	CHECK(wait_until(has_two_readings, NULL));
	kill(pid, SIGINT);
	CHECK_INT(wait_for(pid), 0);
	CODE(hull("remove --force work"), 0);
}

static void nothing_says_what_next(void)
{
	static const char *const lines[][2] = {
		{"list", "tidyhull launch IMAGE"},
		{"list images", "tidyhull pull"},
		{"list volumes", "--mount /data=volume:NAME"},
		{"list networks", "--network NAME"},
		{"list sessions", "tidyhull exec CONTAINER -- COMMAND"},
		{"ports", "--port 80=8080"},
		{"meter --once", "tidyhull list --all"},
		{"timeline", "tidyhull launch IMAGE"},
		{"timeline --since 1s", "since then"}};

	for (size_t i = 0; i < COUNT_OF(lines); i++) {
		CODE(hull("%s", lines[i][0]), 0);
		SAYS(hull("%s", lines[i][0])->out, lines[i][1]);
	}
}

static const CU_TestInfo tests[] = {
	{"nothing says what next", nothing_says_what_next},
	{"names are whole and lines fit", names_are_whole_and_lines_fit},
	{"long texts are broken", long_texts_are_broken},
	{"columns of every table", columns_of_every_table},
	{"the meter takes keys", the_meter_takes_keys},
	{"readings line by line", readings_line_by_line}, {"watched", watched},
	CU_TEST_INFO_NULL};

const struct suite suite_tables = {"tables", tests};
