/* Volumes. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static void data_outlives_the_container(void)
{
	struct result *result;

	CODE(hull("run selwick/base --network none --mount "
		  "/data=volume:ledger -- sh -c 'echo page >/data/one'"),
		0);
	CHECK_TEXT(hull("run selwick/base --network none --mount "
			"/data=volume:ledger,ro -- cat /data/one")
			   ->out,
		"page\n");
	CODE(hull("run selwick/base --network none --mount "
		  "/data=volume:ledger,ro -- touch /data/two"),
		1);
	result = hull("list volumes");
	SAYS(result->out, "ledger");
	SAYS(result->out, "last used");
	CODE(hull("sweep --yes"), 0);
	CODE(hull("show volume:ledger"), 0);
	CHECK_TEXT(field("volume:ledger", "named"), "true");
	result = hull("remove volume:ledger");
	CODE(result, 0);
	CHECK_TEXT(result->out, "removed volume ledger\n");
	CODE(hull("remove volume:ledger"), 3);
	SAYS(hull("list volumes")->out, "there are no volumes");
}

static void what_is_in_use_stays(void)
{
	struct result *result;

	CODE(hull("new volume ledger charts"), 0);
	result = hull("new volume ledger");
	CODE(result, 4);
	SAYS(result->err, "already");
	CODE(hull("launch selwick/base --name box --network none --mount "
		  "/data=volume:ledger -- sleep 1000"),
		0);
	result = hull("remove volume:ledger");
	CODE(result, 4);
	SAYS(result->err, "is in use");
	SAYS(result->err, "tidyhull remove box");
	CODE(hull("stop box"), 0);
	/* Also by one that does not run. */
	CODE(hull("remove volume:ledger"), 4);
	SAYS(hull("sweep --only volumes")->out, "volumes");
	SAYS(hull("sweep --only volumes --yes")->out, "freed");
	CODE(hull("show volume:charts"), 3);
	CODE(hull("show volume:ledger"), 0);
	CODE(hull("remove box volume:ledger"), 0);
	CODE(hull("new volume '../x'"), 2);
	CODE(hull("launch selwick/base --mount /data=volume:../x"), 2);
	CODE(hull("new boat x"), 2);
}

static void a_new_one_is_filled_from_the_image(void)
{
	CODE(hull("launch selwick/base --name box --network none --mount "
		  "/home=volume:homes -- sleep 1000"),
		0);
	CODE(hull("exec box -- test -d /home/pilot"), 0);
	CODE(hull("exec box -- rmdir /home/pilot"), 0);
	CODE(hull("exec box -- touch /home/mine"), 0);
	CODE(hull("remove --force box"), 0);
	/* Once only: what was taken out stays out. */
	CODE(hull("run selwick/base --network none --mount /home=volume:homes "
		  "-- test -e /home/pilot"),
		1);
	/* A folder that the image lacks is the program's. */
	CODE(hull("run selwick/base --network none --user pilot --mount "
		  "/data=volume:mine -- touch /data/here"),
		0);
	CODE(hull("remove volume:homes volume:mine"), 0);
}

static void what_an_image_declares_comes_and_goes(void)
{
	char name[64];

	/* The ledger declares /data. */
	CODE(hull("launch selwick/ledger --name box --network own"), 0);
	snprintf(name, sizeof(name), "%.12s", hull("list volumes -q")->out);
	CHECK_INT(strlen(name), 12);
	CHECK_TEXT(field(name, "named"), "false");
	SAYS(field("box", "settings.mount.0"), "/data=volume:");
	CODE(hull("remove volume:%s", name), 4);
	CODE(hull("remove --force box"), 0);
	CHECK_TEXT(hull("list volumes -q")->out, "");
	/* With a name of its own it stays. */
	CODE(hull("launch selwick/ledger --name box --network own --mount "
		  "/data=volume:berths"),
		0);
	CODE(hull("remove --force box"), 0);
	CHECK_TEXT(hull("list volumes -q")->out, "berths\n");
	CODE(hull("remove volume:berths"), 0);
	/* A foreground run takes its own with it. */
	CODE(hull("run selwick/ledger --network none --entrypoint /bin/true"),
		0);
	CHECK_TEXT(hull("list volumes -q")->out, "");
}

static void they_are_backed_up_as_archives(void)
{
	CODE(hull("run selwick/base --network none --mount "
		  "/data=volume:ledger -- sh -c 'mkdir /data/a; echo page "
		  ">/data/a/one; chown 1000:7 /data/a/one'"),
		0);
	CODE(other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy volume:ledger - "
		   ">ledger.tar'",
		     world_store, world_build),
		0);
	CODE(hull("new volume again"), 0);
	CODE(other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy - volume:again "
		   "<ledger.tar'",
		     world_store, world_build),
		0);
	CHECK_TEXT(hull("run selwick/base --network none --mount "
			"/d=volume:again -- sh -c 'cd /d; find . -type f "
			"-exec stat -c %%n,%%u,%%g {} +'")
			   ->out,
		"./a/one,1000,7\n");
	CODE(hull("copy volume:again/a/one one"), 0);
	CHECK(file_holds("one", "page"));
	CODE(hull("remove volume:ledger volume:again"), 0);
}

static const CU_TestInfo tests[] = {
	{"data outlives the container", data_outlives_the_container},
	{"what is in use stays", what_is_in_use_stays},
	{"a new one is filled from the image",
		a_new_one_is_filled_from_the_image},
	{"what an image declares comes and goes",
		what_an_image_declares_comes_and_goes},
	{"they are backed up as archives", they_are_backed_up_as_archives},
	CU_TEST_INFO_NULL};

const struct suite suite_volumes = {"volumes", tests};
