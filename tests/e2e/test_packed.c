/* pack, unpack, and images that are taken from a file. */
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

#define SPECS "/usr/share/gocode/src/github.com/opencontainers/image-spec"

static void make_file(void)
{
	CODE(hull("pull selwick/gauge selwick/ledger"), 0);
	CODE(hull("pack selwick/gauge selwick/ledger two.tar"), 0);
	CODE(hull("pack selwick/gauge gauge.tar"), 0);
	put_file("config.yaml", "registries: []\n");
}

static void a_round_trip_changes_nothing(void)
{
	char before[200], after[200];

	make_file();
	snprintf(before, sizeof(before), "%.199s", hull("list images -q")->out);
	CODE(hull("remove selwick/gauge selwick/ledger"), 0);
	SAYS(hull("list images")->out, "there are no images");
	CODE(hull("unpack two.tar"), 0);
	snprintf(after, sizeof(after), "%.199s", hull("list images -q")->out);
	CHECK_TEXT(after, before);
	/* The same images give the same bytes. */
	CODE(hull("pack selwick/gauge selwick/ledger again.tar"), 0);
	CODE(other("cmp two.tar again.tar"), 0);
	CODE(hull("run selwick/gauge --entrypoint '' -- true"), 0);
}

static void it_is_a_layout_for_everybody(void)
{
	static const char *const checks[][2] = {
		{"image-layout-schema.json", "plain/oci-layout"},
		{"image-index-schema.json", "plain/index.json"}};
	char digest[100];

	make_file();
	CODE(other("sh -c 'mkdir plain && tar -C plain -xf gauge.tar'"), 0);
	for (size_t i = 0; i < COUNT_OF(checks); i++)
		CODE(other("/usr/bin/python3 %s/../tests/e2e/validate.py " SPECS
			   "/schema/%s %s",
			     world_build, checks[i][0], checks[i][1]),
			0);
	CODE(other("sh -c 'cd plain/blobs/sha256 && for b in *; do echo \"$b  "
		   "$b\"; done | sha256sum -c --quiet'"),
		0);
	/* And a folder is as good as the file. */
	CODE(hull("remove selwick/gauge selwick/ledger"), 0);
	snprintf(digest, sizeof(digest), "%.71s", hull("pull ./plain -q")->out);
	CHECK(strncmp(digest, "sha256:", 7) == 0);
	CODE(hull("run selwick/gauge --entrypoint '' -- true"), 0);
}

static void a_file_is_enough_to_run(void)
{
	struct result *result;

	make_file();
	CODE(hull("remove selwick/gauge selwick/ledger"), 0);
	result = hull("run ./gauge.tar --entrypoint '' -- cat /etc/motd");
	CODE(result, 0);
	CHECK_TEXT(result->out, "Port Selwick: fair winds.\n");
	/* A second time it is here. */
	result = hull("run ./gauge.tar --entrypoint '' -- true");
	CODE(result, 0);
	CHECK_TEXT(result->err, "");
	result = hull("run ./two.tar -- true");
	CODE(result, 125);
	SAYS(result->err, "contains several images");
	SAYS(result->err, "/selwick/ledger:latest");
	CODE(hull("launch gauge.tar --name box"), 0);
	SAYS(hull("list")->out, "/selwick/gauge ");
	CODE(hull("remove --force box"), 0);
	CODE(hull("unpack two.tar --only selwick/ledger"), 0);
	CODE(hull("unpack two.tar --only selwick/base"), 3);
}

static void compressed_and_piped(void)
{
	make_file();
	CODE(hull("remove selwick/gauge selwick/ledger"), 0);
	CODE(other("gzip -k gauge.tar"), 0);
	CODE(hull("unpack gauge.tar.gz"), 0);
	CODE(hull("remove selwick/gauge"), 0);
	CODE(other("zstd -q gauge.tar"), 0);
	CODE(hull("pull ./gauge.tar.zst"), 0);
	CODE(other("sh -c '%s/tidyhull pack selwick/gauge - >piped.tar "
		   "2>/dev/null && cmp piped.tar gauge.tar'",
		     world_build),
		0);
	CODE(hull("remove selwick/gauge"), 0);
	CODE(other("sh -c 'cat gauge.tar | %s/tidyhull unpack -'", world_build),
		0);
	CODE(hull("show selwick/gauge"), 0);
}

static void what_is_wrong_is_told(void)
{
	static const struct {
		const char *make, *says;
		int code;
	} cases[] = {{"true", "cannot open", 3},
		{"echo boo >bad.tar", "is not a packed image", 1},
		{"tar -cf bad.tar config.yaml", "not an OCI image layout", 1},
		{"head -c 100000 gauge.tar >bad.tar", "", 1},
		{"cp -r plain p && rm p/blobs/sha256/* && tar -C p -cf bad.tar "
		 ".",
			"does not contain the blob", 3},
		{"rm -rf p && cp -r plain p && for b in p/blobs/sha256/*; do "
		 "printf x >>$b; done; tar -C p -cf bad.tar .",
			"", 1},
		{"rm -rf p && cp -r plain p && echo 7 >p/index.json && tar -C "
		 "p -cf bad.tar .",
			"", 1}};

	make_file();
	CODE(other("sh -c 'mkdir plain && tar -C plain -xf gauge.tar'"), 0);
	CODE(hull("remove selwick/gauge selwick/ledger"), 0);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct result *result;

		put_file("make", cases[i].make);
		other("rm -f bad.tar");
		CODE(other("sh make"), 0);
		result = hull("unpack ./bad.tar");
		if (result->code != cases[i].code)
			printf("\n    %s: %s\n", cases[i].make, result->err);
		CODE(result, cases[i].code);
		SAYS(result->err, "tidyhull: ");
		SAYS(result->err, cases[i].says);
		SAYS(hull("list images")->out, "there are no images");
	}
	CODE(hull("sweep --yes"), 0);
}

static void it_can_be_looked_into(void)
{
	struct result *result;

	make_file();
	result = hull("peek ./two.tar");
	CODE(result, 0);
	SAYS(result->out, "/selwick/gauge:latest");
	SAYS(result->out, "/selwick/ledger:latest");
	SAYS(result->out, "the berth ledger");
	CODE(other("gzip two.tar"), 0);
	CODE(other("chmod 644 two.tar.gz"), 0);
	CODE(hull_as_user("peek ./two.tar.gz"), 0);
	CODE(hull("peek ./nothing.tar"), 3);
}

static void a_file_that_is_there_stays(void)
{
	struct result *result;

	make_file();
	put_file("kept.tar", "precious");
	result = hull("pack selwick/gauge kept.tar");
	CODE(result, 4);
	SAYS(result->err, "--yes");
	CHECK(file_holds("kept.tar", "precious"));
	CODE(hull("pack selwick/gauge kept.tar --yes"), 0);
	CODE(other("cmp kept.tar gauge.tar"), 0);
	/* A link is followed, and stays one. */
	CODE(other("sh -c 'mkdir -p pier; echo precious >pier/old.tar; "
		   "ln -s pier/old.tar link.tar'"),
		0);
	CODE(hull("pack selwick/gauge link.tar"), 4);
	CODE(hull("pack selwick/gauge link.tar --yes"), 0);
	CODE(other("cmp pier/old.tar gauge.tar"), 0);
	CODE(other("test -L link.tar"), 0);
	result = hull("pack selwick/gauge pier");
	CODE(result, 2);
	SAYS(result->err, "pier/NAME.tar");
	CODE(hull("pack selwick/gauge /nowhere/x.tar"), 1);
	CODE(hull("pack selwick/lighthouse x.tar"), 3);
	CODE(hull("pack selwick/gauge"), 2);
}

/* A pipe or a terminal by its name is written, not replaced. */
static void pipes_are_written(void)
{
	make_file();
	CODE(other("mkfifo pipe.tar"), 0);
	CODE(other("sh -c 'cat pipe.tar >from-pipe.tar & %s/tidyhull pack "
		   "selwick/gauge pipe.tar; wait'",
		     world_build),
		0);
	CODE(other("cmp from-pipe.tar gauge.tar"), 0);
	CODE(other("test -p pipe.tar"), 0);
	CODE(hull("pack selwick/gauge - --json"), 2);
	CODE(other("sh -c '%s/tidyhull pack selwick/gauge /dev/stdout | cat "
		   ">from-out.tar'",
		     world_build),
		0);
	CODE(other("cmp from-out.tar gauge.tar"), 0);
}

static void nothing_stays_of_a_killed_one(void)
{
	make_file();
	CODE(other("mkdir pier"), 0);
	for (int i = 0; i < 60; i++) {
		pid_t pid = hull_start("out",
			"pack selwick/gauge selwick/ledger pier/two.tar");

		usleep((useconds_t)(i * 300));
		signal_to(pid, SIGKILL);
		wait_for(pid);
		CODE(other("sh -c '! test -e pier/two.tar || cmp pier/two.tar "
			   "two.tar'"),
			0);
		CODE(other("rm -f pier/two.tar"), 0);
		CHECK_TEXT(other("ls pier")->out, "");
	}
}

#define STARTS 30

/* As tasks of a job on one host do: whoever comes first unpacks. */
static void many_starts_unpack_once(void)
{
	pid_t pids[STARTS];

	make_file();
	for (int i = 0; i < STARTS; i++) {
		char out[16];

		snprintf(out, sizeof(out), "out.%d", i);
		pids[i] = hull_start(out,
			"run ./gauge.tar --root fresh --network none "
			"--entrypoint echo -- moored");
	}
	for (int i = 0; i < STARTS; i++)
		CHECK_INT(wait_for(pids[i]), 0);
	CHECK_TEXT(other("sh -c 'cat out.* | grep -c ^moored'")->out, "30\n");
	/* Each of its three layers. */
	CHECK_TEXT(other("sh -c 'cat out.* | grep -c unpacked'")->out, "3\n");
	CHECK_TEXT(hull("list --all --quiet --root fresh")->out, "");
	CODE(hull("remove selwick/gauge --root fresh"), 0);
	CODE(hull("sweep --yes --root fresh"), 0);
}

static const CU_TestInfo tests[] = {
	{"a round trip changes nothing", a_round_trip_changes_nothing},
	{"it is a layout for everybody", it_is_a_layout_for_everybody},
	{"a file is enough to run", a_file_is_enough_to_run},
	{"compressed and piped", compressed_and_piped},
	{"what is wrong is told", what_is_wrong_is_told},
	{"it can be looked into", it_can_be_looked_into},
	{"a file that is there stays", a_file_that_is_there_stays},
	{"pipes are written", pipes_are_written},
	{"nothing stays of a killed one", nothing_stays_of_a_killed_one},
	{"many starts unpack once", many_starts_unpack_once},
	CU_TEST_INFO_NULL};

const struct suite suite_packed = {"packed", tests};
