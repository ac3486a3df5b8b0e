/* What people get wrong with images and registries: each has its exit code, one
 * sentence of what and why, and a way out. Nothing is left behind. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

struct mistake {
	const char *line;
	int code;
	const char *says; /* what went wrong */
	const char *way; /* what to do next */
};

static void check(const struct mistake *mistakes, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		struct result *result = hull("%s", mistakes[i].line);
		const char *line = result->err;

		if (result->code != mistakes[i].code)
			printf("\n    %s: %d: %s\n", mistakes[i].line,
				result->code, result->err);
		CODE(result, mistakes[i].code);
		SAYS(result->err, mistakes[i].says);
		SAYS(result->err, mistakes[i].way);
		/* "tidyhull: " and the message, then lines with hints. */
		while (*line && strncmp(line, "layer ", 6) == 0)
			line += strcspn(line, "\n") + 1;
		CHECK(strncmp(line, "tidyhull: ", 10) == 0);
		CHECK_TEXT(result->out, "");
	}
}

static void names_that_are_none(void)
{
	static const struct mistake mistakes[] = {
		{"pull Selwick/Gauge", 2, "is not the name of an image",
			"lower-case"},
		{"pull selwick/gauge:-x", 2, "is not a tag", "128"},
		{"pull selwick/gauge@sha256:12", 2, "is not a digest",
			"64 digits"},
		{"pull https://charts.example/x", 2, "is an address",
			"charts.example/x"},
		{"peek selwick//gauge", 2, "is not the name of an image", ""},
		{"push selwick/gauge", 3, "there is no image", "list images"},
		{"tag selwick/gauge x", 3, "there is no image", "list images"},
		{"pull selwick/gauge --platform arm", 2, "is not a platform",
			"it is: --platform linux/arm/v7"},
		{"peek selwick/gauge --platform Linux/arm", 2,
			"is not a platform", "it is: --platform linux/arm/v7"},
		{"pull selwick/gauge --platform aarch64", 2,
			"is not a platform", "it is: --platform linux/arm64\n"},
		{"pull selwick/gauge --platform arm/v6", 2, "is not a platform",
			"it is: --platform linux/arm/v6\n"},
		{"pull selwick/gauge --platform linux/x86_64", 2,
			"is not a platform", "it is: --platform linux/amd64\n"},
		{"pull selwick/gauge --platform arm/v6/x/y", 2,
			"is not a platform", "for example linux/amd64"},
		{"pull selwick/gauge --platform mine", 2, "is not a platform",
			"for example linux/amd64"},
		{"login selwick", 2, "is not the host of a registry",
			"registry.example"},
		{"logout charts.example", 3, "no login is stored", ""},
		{"logout", 2, "no registry given", "--all"}};

	check(mistakes, COUNT_OF(mistakes));
}

static void words_that_are_missing(void)
{
	static const struct mistake mistakes[] = {
		{"pull", 2, "pull needs more", "help pull"},
		{"peek", 2, "peek needs more", "help peek"},
		{"find", 2, "find needs more", "help find"},
		{"find one two", 2, "unexpected argument", "find one"},
		{"push", 2, "push needs more", "help push"},
		{"tag one", 2, "tag needs more", "help tag"},
		{"pack one", 2, "pack needs more", "help pack"},
		{"unpack", 2, "unpack needs more", "unpack -"},
		{"login", 2, "login needs more", "help login"},
		{"sweep images", 2, "unexpected argument",
			"sweep --only images"},
		{"sweep --older-than soon", 2, "is not a duration", "7d"},
		{"sweep --only ropes", 2, "sweep cannot remove", "images"},
		{"pull x --platfrom linux/arm", 2, "does not have the option",
			"tidyhull pull x --platform linux/arm"},
		{"pull x --platform", 2, "needs a value", "help pull"},
		{"unpack x --only", 2, "needs a value", "help unpack"},
		{"peek x -- y", 2, "does not take a command", "help peek"},
		{"pause", 2, "no container given", "--all"},
		{"resume", 2, "no container given", "--all"},
		{"processes", 2, "processes needs more", "help processes"}};

	check(mistakes, COUNT_OF(mistakes));
}

static void things_that_are_not_there(void)
{
	static const struct mistake mistakes[] = {
		{"pull selwick/lighthouse", 3, "no registry has",
			"tidyhull find selwick/lighthouse"},
		{"pull selwick/gauge:99", 3, "no registry has", "find"},
		{"find lighthouse", 3, "no image matches", "part of the name"},
		{"peek selwick/lighthouse", 3, "no registry has", "find"},
		{"unpack ./nothing.tar", 3, "cannot open", ""},
		{"pull ./nothing.tar", 3, "cannot open", ""},
		{"peek ./nothing.tar", 3, "cannot open", ""},
		{"pack selwick/lighthouse x.tar", 3, "there is no image",
			"list images"},
		{"show image:selwick/lighthouse", 3, "there is no image",
			"list images"},
		{"remove image:selwick/lighthouse", 3, "there is no image",
			"list images"},
		{"pause lighthouse", 3, "there is no container", "list --all"},
		{"list boats", 2, "unknown kind of object", "images"}};

	check(mistakes, COUNT_OF(mistakes));
	SAYS(hull("list images")->out, "there are no images");
	SAYS(hull("sweep")->out, "there is nothing to remove");
}

static void images_and_containers_are_told_apart(void)
{
	char line[200];
	struct result *result;

	CODE(hull("pull selwick/base"), 0);
	CODE(hull("create selwick/base --name box"), 0);
	/* The digest of an image where a container is wanted, and back. */
	snprintf(line, sizeof(line), "%.19s", hull("list images -q")->out);
	result = hull("start %s", line);
	CODE(result, 3);
	SAYS(result->err, "it is an image");
	SAYS(result->err, "tidyhull launch");
	snprintf(line, sizeof(line), "%s", field("box", "id"));
	CODE(hull("tag %s x:1", line), 3);
	CODE(hull("push box localhost:%d/x", world_registry_port), 3);
	CODE(hull("pack box x.tar"), 3);
	/* A name that both have is asked about. */
	CODE(hull("tag selwick/base box"), 0);
	result = hull("remove box");
	CODE(result, 2);
	SAYS(result->err, "matches 2 objects");
	SAYS(result->err, "container:");
	SAYS(result->err, "image:");
	CODE(hull("remove container:box"), 0);
	CODE(hull("remove image:box"), 0);
}

static void registries_that_are_wrong(void)
{
	static const struct mistake mistakes[] = {
		{"pull localhost:1/selwick/gauge", 6, "localhost:1",
			"registry is running"},
		{"peek localhost:1/selwick/gauge --tags", 6, "localhost:1",
			"registry is running"},
		{"pull nowhere.invalid/x", 6, "nowhere.invalid",
			"check the name"}};
	struct result *result;

	put_file("config.yaml",
		"registries:\n  - host: localhost:1\n"
		"    transport: http\n");
	check(mistakes, COUNT_OF(mistakes));
	put_file("config.yaml",
		"registries:\n  - host: localhost:1\n"
		"    transport: smoke\n");
	result = hull("list");
	CODE(result, 2);
	SAYS(result->err, "config.yaml, line 3: \"smoke\" is not allowed");
	SAYS(result->err, "transport (https, http)");
	put_file("config.yaml", "registries: []\n");
	result = hull("find gauge");
	CODE(result, 3);
	SAYS(result->err, "no registry is configured");
	result = hull("pull selwick/gauge");
	CODE(result, 3);
	SAYS(result->err, "search: true");
}

static const CU_TestInfo tests[] = {
	{"names that are none", names_that_are_none},
	{"words that are missing", words_that_are_missing},
	{"things that are not there", things_that_are_not_there},
	{"images and containers are told apart",
		images_and_containers_are_told_apart},
	{"registries that are wrong", registries_that_are_wrong},
	CU_TEST_INFO_NULL};

const struct suite suite_mistakes = {"mistakes", tests};
