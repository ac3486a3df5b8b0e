#include "group/settings_file.h"

#include <string.h>

#include "unit/unit.h"

static const struct th_file_word words[] = {{"name", false}, {"port", false},
	{"mount", false}, {"env", false}, {"secret", false}, {"network", false},
	{"alias", false}, {"probe", false}, {"read-only", true}, {NULL, false}};

static int read_text(const char *text, const char *given,
	struct th_settings_file *file, struct th_problems *problems)
{
	struct th_strings values = {0};
	struct th_buf body;
	int rc;

	th_buf_init(&body, 65536);
	th_buf_adds(&body, text);
	if (given)
		th_strings_add(&values, given);
	rc = th_settings_file_read(
		"file", "/pier", &body, &values, words, file, problems);
	th_buf_release(&body);
	th_strings_release(&values);
	return rc;
}

/* The nth value of a setting, or "". */
static const char *value_of(
	const struct th_file_container *one, const char *name, int n)
{
	for (size_t i = 0; i < one->setting_count; i++) {
		if (strcmp(one->settings[i].name, name) == 0 && n-- == 0)
			return one->settings[i].value ? one->settings[i].value
						      : "(set)";
	}
	return "";
}

static void one_container_has_its_words(void)
{
	struct th_problems problems = {0};
	struct th_settings_file file;

	CHECK_INT(read_text("name: box\nimage: ./x.tar\ncommand: [a, b]\n"
			    "given: {W: north}\nenv: {S: '${W} $${W}'}\n"
			    "mount: ['/a=./b,ro', /c=volume:d, /e=/f]\n"
			    "secret: k=@file:./pw\nread-only: true\n",
			  "W=south", &file, &problems),
		0);
	CHECK(file.group == NULL);
	CHECK_INT(file.container_count, 1);
	CHECK_TEXT(file.containers[0].image, "/pier/x.tar");
	CHECK_INT(file.containers[0].command.count, 2);
	CHECK_TEXT(value_of(&file.containers[0], "name", 0), "box");
	CHECK_TEXT(value_of(&file.containers[0], "env", 0), "S=south ${W}");
	/* Paths start where the file lies. */
	CHECK_TEXT(value_of(&file.containers[0], "mount", 0), "/a=/pier/b,ro");
	CHECK_TEXT(value_of(&file.containers[0], "mount", 1), "/c=volume:d");
	CHECK_TEXT(value_of(&file.containers[0], "mount", 2), "/e=/f");
	CHECK_TEXT(
		value_of(&file.containers[0], "secret", 0), "k=@file:/pier/pw");
	CHECK_TEXT(value_of(&file.containers[0], "read-only", 0), "(set)");
	th_settings_file_release(&file);
}

static void copies_are_numbered(void)
{
	struct th_problems problems = {0};
	struct th_settings_file file;

	CHECK_INT(
		read_text("group: h\ncontainers:\n  g:\n    image: x\n"
			  "    count: 2\n    port: ['80=127.0.0.1:81-82/tcp', "
			  "90, '53=[::1]:54-55/udp']\n"
			  "    env: {N: '${COPY}'}\n",
			NULL, &file, &problems),
		0);
	CHECK_INT(file.container_count, 2);
	CHECK_TEXT(file.containers[1].name, "g-2");
	CHECK_TEXT(file.containers[1].member, "g");
	CHECK_TEXT(value_of(&file.containers[0], "port", 0),
		"80=127.0.0.1:81/tcp");
	CHECK_TEXT(value_of(&file.containers[1], "port", 0),
		"80=127.0.0.1:82/tcp");
	CHECK_TEXT(value_of(&file.containers[1], "port", 1), "90");
	CHECK_TEXT(value_of(&file.containers[1], "port", 2), "53=[::1]:55/udp");
	CHECK_TEXT(value_of(&file.containers[1], "env", 0), "N=2");
	CHECK_TEXT(value_of(&file.containers[1], "alias", 0), "g");
	CHECK_TEXT(value_of(&file.containers[1], "network", 0), "h");
	th_settings_file_release(&file);
	/* The number is known to copies only. */
	CHECK_INT(read_text("group: h\ncontainers:\n  g: {image: x, count: 1}\n"
			    "  k: {image: x, env: {N: '${COPY}'}}\n",
			  NULL, &file, &problems),
		-1);
	th_settings_file_release(&file);
	th_problems_release(&problems);
}

static void what_is_common_is_joined(void)
{
	struct th_problems problems = {0};
	struct th_settings_file file;

	CHECK_INT(
		read_text("group: h\ncommon: {image: x, env: {A: 1}, network: "
			  "n, read-only: true}\ncontainers:\n"
			  "  a: {env: {B: 2}, network: m, read-only: false}\n"
			  "  b: {image: y, network: 'with:a'}\n"
			  "  c: {probe: 'tcp:1', network: none, after: b}\n"
			  "  d: {after: [c, a]}\n",
			NULL, &file, &problems),
		0);
	CHECK_TEXT(file.containers[0].image, "x");
	CHECK_TEXT(value_of(&file.containers[0], "env", 0), "A=1");
	CHECK_TEXT(value_of(&file.containers[0], "env", 1), "B=2");
	CHECK_TEXT(value_of(&file.containers[0], "network", 0), "m");
	CHECK_TEXT(value_of(&file.containers[0], "network", 1), "");
	CHECK_TEXT(value_of(&file.containers[0], "read-only", 0), "");
	CHECK_TEXT(file.containers[1].image, "y");
	/* Whoever shares a network comes after it. */
	CHECK_INT(file.containers[1].after_count, 1);
	CHECK_TEXT(file.containers[1].after[0].member, "a");
	/* By default: ready where a probe can tell. */
	CHECK_INT(file.containers[2].after[0].what, TH_AFTER_RUNNING);
	CHECK_INT(file.containers[3].after[0].what, TH_AFTER_READY);
	CHECK_INT(file.containers[3].after[1].what, TH_AFTER_RUNNING);
	th_settings_file_release(&file);
}

static void mistakes_have_their_places(void)
{
	static const struct {
		const char *text, *says;
	} cases[] = {{"group: [a]\ncontainers: {a: {image: x}}\n",
			     "line 1, column 8: \"group\" takes a single"},
		{"group: none\ncontainers: {a: {image: x}}\n",
			"\"none\" cannot be the name of a group"},
		{"group: h\ncontainers: [a]\n",
			"\"containers\" consists of KEY: VALUE"},
		{"group: h\ncontainers: {a: {image: x, after: {a: running}}}\n",
			"wait for one another: \"a\""},
		{"group: h\ncontainers: {a: {image: x, after: {b: soon}}}\n",
			"\"soon\" is nothing that \"after\" can wait for"},
		{"group: h\ncontainers: {a: {image: x}, a: {image: y}}\n",
			"\"a\" stands here twice"},
		{"group: h\ncontainers: {a: {image: x, count: 2}, a-2: {image: "
		 "x}}\n",
			"two containers would be named \"a-2\""},
		{"group: h\ncontainers: {a: {image: x, count: 2, port: "
		 "['80=81']}}\n",
			"2 copies cannot share the port of \"80=81\""},
		{"group: h\ncontainers: {a: {image: x, common: {}}}\n",
			"a container has no key \"common\""},
		{"group: h\ngiven: {N: }\ncontainers: {a: {image: x}}\n",
			"\"N\" has no value"},
		{"group: h\ngiven-from: nosuch\ncontainers: {a: {image: x}}\n",
			"/pier/nosuch does not exist"},
		{"group: h\nvolumes: {v: {size: 1}}\ncontainers: {a: {image: "
		 "x}}\n",
			"a volume has no settings"},
		{"group: h\nnetworks: {host: }\ncontainers: {a: {image: x}}\n",
			"\"host\" cannot be the name of a network"},
		{"command: ls\n", "\"command\" takes a list"},
		{"after: [x]\n", "a settings file has no key \"after\""},
		{"- a\n", "a settings file consists of KEY: VALUE"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_problems problems = {0};
		struct th_settings_file file;
		bool said = false;

		CHECK_INT(read_text(cases[i].text, NULL, &file, &problems), -1);
		for (size_t k = 0; k < problems.count; k++)
			said |= strstr(problems.list[k].msg, cases[i].says) !=
				NULL;
		CHECK(said);
		if (!said)
			printf("\n    not said: %s; but: %s\n", cases[i].says,
				problems.count ? problems.list[0].msg : "");
		th_settings_file_release(&file);
		th_problems_release(&problems);
	}
}

static const CU_TestInfo tests[] = {
	{"one container has its words", one_container_has_its_words},
	{"copies are numbered", copies_are_numbered},
	{"what is common is joined", what_is_common_is_joined},
	{"mistakes have their places", mistakes_have_their_places},
	CU_TEST_INFO_NULL};

const struct suite suite_settings_file = {"settings-file", tests};
