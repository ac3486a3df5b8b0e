/* Files that are packed images and can be executed; and shells in images. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

/* Executes a file of the test's folder as whoever runs tidyhull here. */
static struct result *execute(const char *line)
{
	return other("env PATH=%s:/usr/bin:/bin TIDYHULL_ROOT=%s %s",
		world_build, world_store, line);
}

static void a_file_that_can_be_executed(void)
{
	struct result *result;
	struct stat st;
	char path[200];

	CODE(hull("pull selwick/almanac selwick/base"), 0);
	CODE(hull("pack --runnable selwick/almanac ./almanac --network none"),
		0);
	snprintf(path, sizeof(path), "%s/almanac", world_folder);
	CHECK(stat(path, &st) == 0 && (st.st_mode & 0700) == 0700);
	/* Still a plain archive for everybody. */
	result = other("tar tf almanac");
	CODE(result, 0);
	SAYS(result->out, "oci-layout\nindex.json\nblobs/\n");
	SAYS(other("bsdtar tf almanac")->out, "oci-layout\nindex.json\n");
	SAYS(hull("peek ./almanac")->out, "selwick/almanac");
	CODE(hull("remove selwick/almanac"), 0);
	result = execute("./almanac --days 1");
	CODE(result, 0);
	SAYS(result->out, "tide table for 1 day");
	CHECK_TEXT(result->err, "");
	/* The image has come with its name, and is there for the next time. */
	SAYS(hull("list images")->out, "almanac");
	SAYS(execute("./almanac")->out, "Port Selwick");
	SAYS(hull("list --all")->out, "there are no containers");
	/* Without its settings, as any packed file. */
	SAYS(hull("run ./almanac --network none -- --days 2")->out, "2 days");
	CODE(hull("remove selwick/almanac"), 0);
	/* Packed again it is the same. */
	CODE(hull("unpack ./almanac"), 0);
	CODE(hull("pack --runnable selwick/almanac ./again --network none"), 0);
	CODE(other("cmp almanac again"), 0);
}

static void settings_are_kept_in_it(void)
{
	struct result *result;

	CODE(hull("pull selwick/base"), 0);
	CODE(hull("pack --runnable selwick/base ./box --network none --env "
		  "STATION=north --env CALLER --workdir /srv --read-only "
		  "--entrypoint sh"),
		0);
	setenv("CALLER", "me", 1);
	result = execute("./box -c 'pwd; echo $STATION $CALLER; touch /x'");
	CODE(result, 1);
	SAYS(result->out, "/srv\nnorth me\n");
	SAYS(result->err, "Read-only");
	CODE(execute("./box -c 'exit 42'"), 42);
	unsetenv("CALLER");
	result = execute("./box -c true");
	CODE(result, 125);
	SAYS(result->err, "CALLER is not set");
}

static void mistakes_with_such_files(void)
{
	struct result *result;

	CODE(hull("pull selwick/base selwick/gauge"), 0);
	result = hull("pack selwick/base ./box --network none");
	CODE(result, 2);
	SAYS(result->err, "--runnable");
	CODE(hull("pack --runnable selwick/base selwick/gauge ./box"), 2);
	CODE(hull("pack --runnable selwick/base ./box"), 0);
	/* Without the program that it needs. */
	result = other("env -i PATH=/bin:/usr/bin ./box");
	CODE(result, 127);
	SAYS(result->err, "./box needs Tidy Hull");
	result = execute("tidyhull ./nothing");
	CODE(result, 125);
	SAYS(result->err, "./nothing");
	put_file("text", "#!/bin/sh\n");
	result = execute("tidyhull ./text");
	CODE(result, 125);
	SAYS(result->err, "is not a packed image");
}

/* Many at once from one file: it is unpacked once. */
static void many_at_once(void)
{
	pid_t pids[12];
	char name[20];

	CODE(hull("pull selwick/almanac"), 0);
	CODE(hull("pack --runnable selwick/almanac ./almanac --network none"),
		0);
	CODE(hull("remove selwick/almanac"), 0);
	for (size_t i = 0; i < COUNT_OF(pids); i++) {
		snprintf(name, sizeof(name), "out%zu", i);
		pids[i] = hull_start(name, "run ./almanac --network none");
	}
	for (size_t i = 0; i < COUNT_OF(pids); i++) {
		CHECK_INT(wait_for(pids[i]), 0);
		snprintf(name, sizeof(name), "out%zu", i);
		CHECK(file_holds(name, "Port Selwick, tide table"));
	}
	SAYS(hull("list --all")->out, "there are no containers");
	CODE(hull("sweep --yes"), 0);
	SAYS(hull("sweep")->out, "there is nothing to remove");
}

static void a_shell_in_an_image(void)
{
	struct result *result;

	result = hull_input("pwd; echo $0 $STATION; exit 5\n", 30,
		"enter selwick/base --network none --env STATION=north "
		"--workdir /srv");
	CODE(result, 5);
	SAYS(result->out, "/srv\n/bin/sh north\n");
	CODE(hull("pack selwick/base ./base.tar"), 0);
	CODE(hull("remove selwick/base"), 0);
	SAYS(hull_input("ls -d /usr\n", 11, "enter ./base.tar --network none")
			->out,
		"/usr");
	SAYS(hull("list --all")->out, "there are no containers");
	/* A container comes first, and an image can be chosen. */
	CODE(hull("launch selwick/base --name selwick --network none -- sleep "
		  "1000"),
		0);
	SAYS(hull_input("ps\n", 3, "enter selwick")->out, "sleep 1000");
	CODE(hull("tag selwick/base selwick:latest"), 0);
	CHECK(strstr(hull_input("ps\n", 3, "enter image:selwick --network none")
			      ->out,
		      "sleep 1000") == NULL);
	result = hull("enter selwick --network none");
	CODE(result, 125);
	SAYS(result->err, "--network has no effect");
	CODE(hull("remove --force container:selwick"), 0);
	result = hull("enter lighthouse");
	CODE(result, 125);
	SAYS(result->err, "there is no container \"lighthouse\"");
}

static void a_shell_for_an_image_without_one(void)
{
	struct result *result;

	put_file("n.yaml",
		"image: selwick/bare\nfrom: nothing\nsteps:\n"
		"  - put: {/note: ./n.yaml}\n");
	CODE(hull("build n.yaml"), 0);
	result = hull("enter selwick/bare --network none");
	CODE(result, 127);
	SAYS(result->err, "the image has no shell");
	SAYS(result->err, "--bring-shell");
	result = hull_input("head -1 /note; ls /run/brought\n", 31,
		"enter selwick/bare --network none --bring-shell");
	CODE(result, 0);
	SAYS(result->out, "image: selwick/bare\nsh\n");
}

static const CU_TestInfo tests[] = {
	{"a file that can be executed", a_file_that_can_be_executed},
	{"settings are kept in it", settings_are_kept_in_it},
	{"mistakes with such files", mistakes_with_such_files},
	{"many at once", many_at_once},
	{"a shell in an image", a_shell_in_an_image},
	{"a shell for an image without one", a_shell_for_an_image_without_one},
	CU_TEST_INFO_NULL};

const struct suite suite_runnable = {"runnable", tests};
