/* Text of images, programs, files and registries does not steer the terminal
 * that shows it. */
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/bundles.h"
#include "e2e/harness.h"
#include "e2e/layouts.h"

/* A new title, a colour (C1), and writing from right to left. */
#define POISON                                                                 \
	"x\033]0;mine\007\xc2\x9b"                                             \
	"31m\xe2\x80\xae"                                                      \
	"y"

/* Not by the program's own function. */
static bool is_harmless(const char *text)
{
	for (const char *at = text; *at; at++) {
		if (((unsigned char)*at < 0x20 && *at != '\n' && *at != '\t') ||
			*at == 0x7f || strncmp(at, "\xc2\x9b", 2) == 0 ||
			strncmp(at, "\xe2\x80\xae", 3) == 0) {
			printf("\n    byte %02x at: %.60s\n",
				(unsigned char)*at, at);
			return false;
		}
	}
	return true;
}

static void check_line(const char *line, bool has)
{
	struct result *result = hull("%s", line);
	bool harmless = is_harmless(result->out) && is_harmless(result->err);

	if (!harmless)
		printf("    by: %s\n", line);
	CHECK(harmless);
	if (has && !strstr(result->out, "<U+202E>") &&
		!strstr(result->out, "\\u202e") &&
		!strstr(result->err, "<U+202E>")) {
		printf("\n    not told by: %s\n    %s%s\n", line, result->out,
			result->err);
		CHECK(false);
	}
}

static void what_a_container_says_is_text(void)
{
	CODE(hull("launch --name box --env TIDE=" POISON
		  " selwick/base -- sh -c 'echo " POISON
		  "; exec sleep 1000' " POISON),
		0);
	check_line("show box", true);
	check_line("show box --json", true);
	check_line("show box --settings", true);
	check_line("list", false);
	check_line("list --json", false);
	check_line("timeline box", false);
	check_line("processes box", false);
	check_line("logs box --json", true);
	CODE(hull("kill --signal KILL box"), 0);
	hull("wait box");
	check_line("why box", true);
	check_line("why box --json", true);
	check_line("timeline box", false);
	CODE(hull("remove box"), 0);
	/* What could not be started is told with its name. */
	check_line("launch --name box selwick/base -- /bin/" POISON, true);
	check_line("timeline box", false);
}

static void errors_are_text(void)
{
	static const char *const lines[] = {"show " POISON, POISON,
		"list --" POISON, "pull " POISON, "run " POISON,
		"copy " POISON " box:/", "copy box:/" POISON " .",
		"exec box -- /bin/" POISON, "login " POISON,
		"launch --env @file:/" POISON " selwick/base",
		"launch --mount bind=/" POISON ",target=/x selwick/base",
		"launch --settings /" POISON, "oci state " POISON,
		"oci create --bundle /" POISON " x", "tag selwick/base " POISON,
		"--root /dev/null/" POISON " list", "help " POISON,
		"logs --last " POISON " box", "remove " POISON " nothing"};

	CODE(hull("launch --name box selwick/base -- sleep 1000"), 0);
	for (size_t i = 0; i < sizeof(lines) / sizeof(*lines); i++) {
		CHECK(hull("%s", lines[i])->code != 0);
		check_line(lines[i], false);
	}
	CODE(hull("remove --force box"), 0);
}

static void what_an_image_says_is_text(void)
{
	const char *type = "application/vnd.oci.image.manifest.v1+json";
	json_t *manifest, *config;
	size_t size;
	int port;

	copy_images("images");
	manifest =
		layout_get("images", layout_digest("images", "selwick/base:1"));
	config = layout_get("images",
		json_string_value(json_object_get(
			json_object_get(manifest, "config"), "digest")));
	json_object_set_new(json_object_get(config, "config"), "Env",
		json_pack("[s]", "TIDE=" POISON));
	json_object_set_new(json_object_get(config, "config"), "Cmd",
		json_pack("[ss]", "sh", POISON));
	json_object_set_new(json_object_get(config, "config"), "Labels",
		json_pack("{s:s}", POISON, POISON));
	json_object_set_new(config, "author", json_string(POISON));
	json_object_set_new(
		config, "history", json_pack("[{s:s}]", "created_by", POISON));
	json_object_set_new(json_object_get(manifest, "config"), "digest",
		json_string(layout_put("images", config, &size)));
	json_object_set_new(json_object_get(manifest, "config"), "size",
		json_integer((json_int_t)size));
	layout_name("images", layout_put("images", manifest, &size), type, size,
		"selwick/odd:1");
	json_decref(manifest);
	json_decref(config);
	port = start_registry("images");
	write_config(&port, 1);
	check_line("peek selwick/odd:1", true);
	check_line("peek selwick/odd:1 --json", true);
	CODE(hull("pull selwick/odd:1"), 0);
	check_line("show selwick/odd:1", true);
	check_line("show selwick/odd:1 --json", true);
	check_line("list images", false);
	CODE(hull("create --name box selwick/odd:1"), 0);
	check_line("show box", true);
	check_line("list --all", false);
	CODE(hull("remove box"), 0);
}

/* On a terminal the colours of programs stay; in a file, everything. */
static void logs_are_safe_on_a_terminal(void)
{
	static char screen[OUTPUT_BYTES];
	struct result *result;
	int master;
	pid_t pid;

	CODE(hull("launch --name box selwick/base -- printf "
		  "'\033[32mgreen\033[0m \033]0;mine\007 "
		  "\xe2\x80\xae\r\n\033[1;8mhid\033[38;5;8mgrey\nend\n'"),
		0);
	hull("wait box");
	result = hull("logs box");
	SAYS(result->out,
		"\033[32mgreen\033[0m \033]0;mine\007 \xe2\x80\xae\r\n");
	pid = hull_terminal(&master, "logs box");
	CHECK(screen_until(master, screen, "end\r\n"));
	CHECK_INT(wait_for(pid), 0);
	close(master);
	SAYS(screen,
		"\033[32mgreen\033[0m <U+001B>]0;mine<U+0007> "
		"<U+202E>\033[0m\r\n");
	/* Nor does anything hide, however it is put. */
	SAYS(screen, "<U+001B>[1;8mhid\033[38;5;8mgrey\033[0m\r\n");
	pid = hull_terminal(&master, "logs --raw box");
	CHECK(screen_until(master, screen, "end\r\n"));
	CHECK_INT(wait_for(pid), 0);
	close(master);
	SAYS(screen, "\033]0;mine\007 \xe2\x80\xae\r");
	CODE(hull("remove box"), 0);
}

/* The state's annotations are the bundle's. */
static void a_bundles_state_is_text(void)
{
	char line[400];

	bundle_make();
	bundle_write("{\"annotations\":{\"berth\":\"x\\u001b]0;"
		     "mine\\u009b\\u202ey\"},"
		     "\"process\":{\"args\":[\"/bin/x\\u001b\\u202e\"]}}",
		"true");
	CHECK_INT(wait_for(hull_start("seen",
			  "oci create --root %s/oci --bundle %s/bundle box",
			  world_folder, world_folder)),
		0);
	snprintf(line, sizeof(line), "oci state --root %s/oci box",
		world_folder);
	check_line(line, true);
	snprintf(line, sizeof(line), "oci start --root %s/oci box",
		world_folder);
	check_line(line, false);
	snprintf(line, sizeof(line), "oci delete --force --root %s/oci box",
		world_folder);
	check_line(line, false);
}

static const CU_TestInfo tests[] = {
	{"what a container says is text", what_a_container_says_is_text},
	{"errors are text", errors_are_text},
	{"what an image says is text", what_an_image_says_is_text},
	{"logs are safe on a terminal", logs_are_safe_on_a_terminal},
	{"a bundle's state is text", a_bundles_state_is_text},
	CU_TEST_INFO_NULL};

const struct suite suite_foreign_text = {"foreign text", tests};
