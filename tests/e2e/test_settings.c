/* Environment, secrets and mounts, as a program inside finds them. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static void environment_comes_from_files(void)
{
	struct result *result;

	put_file("base.env",
		"# of the pilots\n\nSTATION=north\nexport CREW=\"four men\\n"
		"and a boy\" # a comment\nRAW='$HOME \"x\"'\nDEPTH= 12 m  # "
		"low\nEMPTY=\nHOME\n");
	put_file("more.env", "STATION=south\n");
	result = hull("run selwick/base --network none --env @file:base.env "
		      "--env @file:more.env --env DEPTH=9 -- env");
	CODE(result, 0);
	/* Later files win over earlier ones, and options over all. */
	SAYS(result->out, "STATION=south\n");
	SAYS(result->out, "CREW=four men\nand a boy\n");
	SAYS(result->out, "RAW=$HOME \"x\"\n");
	SAYS(result->out, "DEPTH=9\n");
	SAYS(result->out, "EMPTY=\n");
	SAYS(result->out, "HOME=/var/tmp/");
	put_file("bad.env", "GOOD=1\nnot a line\nX=\"open\nNOSUCH_VALUE\n");
	result = hull("run selwick/base --network none --env @file:bad.env -- "
		      "true");
	CODE(result, 125);
	/* All at once, each with its line. */
	SAYS(result->err, "bad.env, line 2: expected KEY=VALUE");
	SAYS(result->err, "bad.env, line 3: unterminated quote");
	SAYS(result->err, "bad.env, line 4: no value");
	CODE(hull("run selwick/base --env @file:nosuch.env -- true"), 125);
}

/* A value that was in a file must stand nowhere else. */
static void secrets_do_not_leak(void)
{
	static const char secret[] = "wreck-of-the-1874";
	char grep[600];

	put_file("pw", "wreck-of-the-1874\n");
	put_file("pw.env", "PASSWORD=wreck-of-the-1874\n");
	CODE(hull("launch selwick/base --name box --network none --env "
		  "A=@file:pw --env @file:pw.env --secret berth=@file:pw -- sh "
		  "-c 'sleep 1000'"),
		0);
	CHECK(!strstr(hull("show box")->out, secret));
	CHECK(!strstr(hull("show box --json")->out, secret));
	CHECK(!strstr(hull("list --json")->out, secret));
	CHECK(!strstr(hull("timeline box --json")->out, secret));
	SAYS(hull("show box --reveal")->out, secret);
	/* Not by its own words. */
	snprintf(grep, sizeof(grep), "grep -las [%c]%s", secret[0], secret + 1);
	CHECK_TEXT(as_root("sh -c '%s /proc/[0-9]*/cmdline | grep -v "
			   "/self/ | head -n1'",
			   grep)
			   ->out,
		"");
	/* Inside it is a file in memory, for the program's user alone. */
	CHECK_TEXT(hull("exec box -- cat /run/tidyhull/berth")->out, secret);
	CHECK_TEXT(hull("exec box -- stat -c %%a:%%u /run/tidyhull/berth")->out,
		"400:0\n");
	CODE(hull("exec box -- sh -c 'echo x >/run/tidyhull/berth'"), 1);
	SAYS(hull("exec box -- grep /run/tidyhull /proc/mounts")->out, "tmpfs");
	CODE(hull("restart box"), 0);
	CHECK_TEXT(hull("exec box -- cat /run/tidyhull/berth")->out, secret);
	CODE(hull("remove --force box"), 0);
	CODE(hull("create selwick/base --secret berth=plain"), 2);
	CODE(hull("create selwick/base --secret ../x=@file:pw"), 2);
}

static void owners_are_mapped(void)
{
	struct stat st;
	char path[300];

	if (world_user)
		return; /* their files are root's inside as it is */
	as_root("mkdir %s/chart", world_folder);
	as_root("chown 4711:4711 %s/chart", world_folder);
	CODE(hull("run selwick/base --network none --user pilot --mount "
		  "/chart=./chart,map=me -- sh -c 'stat -c %%u /chart; touch "
		  "/chart/new'"),
		0);
	snprintf(path, sizeof(path), "%s/chart/new", world_folder);
	CHECK_INT(stat(path, &st), 0);
	CHECK_INT(st.st_uid, 4711);
	as_root("rm -r %s/chart", world_folder);
}

static void mistakes_are_told_before_anything_starts(void)
{
	struct result *result;

	/* Neither takes minutes, nor all of the memory. */
	CODE(other("sh -c 'head -c 100000 /dev/zero | tr \"\\0\" [ >deep'"), 0);
	result = hull("create --settings deep");
	CODE(result, 2);
	SAYS(result->err, "deep, line 1: it is nested too deeply");
	result = hull("list --config deep");
	CODE(result, 2);
	SAYS(result->err, "deep, line 1: it is nested too deeply");
	CODE(other("mkdir folder"), 0);
	put_file("file", "x");
	result = hull("create selwick/base --name box --mount "
		      "/etc/motd=./folder");
	CODE(result, 2);
	SAYS(result->err, "mount target /etc/motd is a file in the image");
	result = hull("create selwick/base --name box --mount /etc=./file");
	CODE(result, 2);
	SAYS(result->err, "is a folder in the image");
	SAYS(hull("list --all")->out, "there are no containers");
	result = hull("run selwick/base --network none --mount "
		      "/d=./folder,label=all -- true");
	CODE(result, 0);
	SAYS(result->err, "no security labels");
	result = hull("create selwick/base --network none --mount "
		      "/d=/usr,label=mine -- true");
	CHECK(result->code != 0);
	SAYS(result->err, "/usr is a folder of the host's own");
	CODE(hull("run selwick/base --network none --mount "
		  "/d=./folder,propagate=slave -- true"),
		0);
	CODE(hull("create selwick/base --mount /d=./folder,propagate=far"), 2);
	/* A source that has vanished by the time of the start. */
	CODE(hull("create selwick/base --name box --network none --mount "
		  "/d=./folder -- true"),
		0);
	CODE(other("rmdir folder"), 0);
	result = hull("start box");
	CHECK(result->code != 0);
	SAYS(result->err, "/folder");
	SAYS(hull("why box")->out, "could not be started");
	CODE(hull("remove box"), 0);
}

static void a_file_has_the_same_words(void)
{
	struct result *result;
	char file[4096];

	put_file("gauge.yaml",
		"# of the north pier\nname: box\nimage: selwick/base\nnetwork: "
		"none\nenv:\n  STATION: north\n  DEPTH: \"9 m\"\nlimit: "
		"processes=100\nlabel: x\n");
	result = hull("create --settings gauge.yaml");
	CODE(result, 2);
	SAYS(result->err,
		"gauge.yaml, line 9, column 1: a settings file has no key "
		"\"label\"");
	put_file("bad.yaml", "name: [a]\nports: 80\nread-only: perhaps\n");
	result = hull("create selwick/base --settings bad.yaml");
	CODE(result, 2);
	/* All at once. */
	SAYS(result->err,
		"line 2, column 1: a settings file has no key \"ports\"");
	SAYS(result->err,
		"line 3, column 12: \"read-only\" takes true or false");
	put_file("torn.yaml", "name: [a\n");
	CODE(hull("create selwick/base --settings torn.yaml"), 2);
	CODE(hull("create --settings nosuch.yaml"), 3);
	CODE(hull("create"), 2);
	put_file("gauge.yaml",
		"name: box\nimage: selwick/base\nnetwork: none\nenv:\n  "
		"STATION: north\n  DEPTH: \"9 m\"\nread-only: true\nmount:\n  "
		"- /scratch=memory:4M\nrestart: on-failure,tries=2\ncommand: "
		"[sh, -c, 'env; sleep 1000']\n");
	SAYS(hull("launch --settings gauge.yaml --plan")->out,
		"nothing was changed");
	/* Options win. */
	CODE(hull("launch --settings gauge.yaml --env STATION=south"), 0);
	result = hull("exec box -- env");
	SAYS(result->out, "STATION=south\n");
	SAYS(result->out, "DEPTH=9 m\n");
	CODE(hull("exec box -- touch /new"), 1);
	/* What show writes makes the same once more. */
	snprintf(file, sizeof(file), "%.4000s",
		hull("show box --settings")->out);
	put_file("again.yaml", file);
	CODE(hull("remove --force box"), 0);
	result = hull("launch --settings again.yaml");
	CODE(result, 0);
	CHECK_TEXT(hull("show box --settings")->out, file);
	CHECK_TEXT(field("box", "restart.policy"), "on-failure,tries=2");
	SAYS(hull("exec box -- env")->out, "STATION=south\n");
	CODE(hull("remove --force box"), 0);
}

/* From standard input or by the name of a pipe: paths start where the caller
 * is. */
static void a_file_may_be_a_pipe(void)
{
	static const struct {
		const char *before, *file;
	} ways[] = {{"cat box.yaml |", "-"}, {"cat box.yaml |", "/dev/stdin"},
		{"cat box.yaml >pipe &", "pipe"}};

	CODE(other("sh -c 'mkdir site; echo tide >site/page; mkfifo pipe'"), 0);
	put_file("box.yaml",
		"image: selwick/base\nnetwork: none\n"
		"mount:\n  /page: ./site/page\ncommand: [cat, /page]\n");
	for (size_t i = 0; i < COUNT_OF(ways); i++) {
		struct result *result =
			other("sh -c '%s %s/tidyhull run --settings %s; wait'",
				ways[i].before, world_build, ways[i].file);

		CODE(result, 0);
		CHECK_TEXT(result->out, "tide\n");
	}
}

static const CU_TestInfo tests[] = {
	{"a file may be a pipe", a_file_may_be_a_pipe},
	{"a file has the same words", a_file_has_the_same_words},
	{"environment comes from files", environment_comes_from_files},
	{"secrets do not leak", secrets_do_not_leak},
	{"owners are mapped", owners_are_mapped},
	{"mistakes are told before anything starts",
		mistakes_are_told_before_anything_starts},
	CU_TEST_INFO_NULL};

const struct suite suite_settings_inside = {"settings", tests};
