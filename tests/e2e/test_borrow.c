/* Layers that an administrator has unpacked for all users of a host. */
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

#define IMAGE "selwick/base"

/* What the administrator does (docs/cluster.md). */
static void lend(const char *image)
{
	CODE(as_root("%s/tidyhull pull --root %s/yard/store %s", world_build,
		     world_folder, image),
		0);
	CODE(as_root("sh -c 'chmod 700 yard && cd yard/store && chmod 755 . "
		     "trees images images/blobs images/blobs/*'"),
		0);
	CODE(as_root("mkdir lent"), 0);
	CODE(as_root("mount --bind yard/store lent"), 0);
	CODE(as_root("mount -o remount,bind,ro,nosuid lent"), 0);
}

static void take_back(void)
{
	as_root("umount lent");
	CODE(as_root("rm -r lent yard"), 0);
}

/* How many of the store's trees, or blobs of layers, are of that type. */
static int count_of(const char *where, const char *type)
{
	struct result *result =
		other("find %s/%s -mindepth 1 -maxdepth 1 -type %s",
			world_store, where, type);
	int count = 0;

	for (const char *at = result->out; (at = strchr(at, '\n')); at++)
		count++;
	return count;
}

static const char *marks(void)
{
	static char text[80];

	snprintf(text, sizeof(text), "%.70s",
		as_root("sh -c 'cd yard/store/trees && find . -printf "
			"\"%%p %%T@ %%s %%m\\n\" | sort | sha256sum'")
			->out);
	return text;
}

static void nothing_is_unpacked(void)
{
	static const char inside[] =
		"set -e; echo new >/etc/new; mkdir -p /var/made; "
		"echo 2 >/var/made/two; rm /etc/passwd; "
		"cp /etc/hostname /etc/kept; mv /etc/kept /etc/group; "
		"ls /etc; cat /etc/new /var/made/two; stat -c %u /etc /";
	struct result *result;
	char before[80];

	lend(IMAGE);
	snprintf(before, sizeof(before), "%s", marks());
	result = hull("pull " IMAGE " --layers-from %s/lent", world_folder);
	CODE(result, 0);
	SAYS(result->out, "pulled");
	CHECK(count_of("trees", "l") > 0);
	CHECK_INT(count_of("trees", "d -not -name *.folders"), 0);
	CHECK(count_of("images/blobs/sha256", "l") > 0);
	/* Writable all the same, and others see nothing of it. */
	result = hull("run " IMAGE " --network none -- sh -c '%s'", inside);
	CODE(result, 0);
	SAYS(result->out, "new\n2\n0\n0\n");
	CHECK(!strstr(result->out, "passwd"));
	result = hull("run " IMAGE " --network none -- ls /etc");
	CODE(result, 0);
	SAYS(result->out, "passwd");
	CHECK(!strstr(result->out, "new"));
	/* It is as whole as one that was unpacked here, and can go on. */
	result = hull("doctor --verify");
	CODE(result, 0);
	SAYS(result->out, "all is well");
	CODE(hull("pack " IMAGE " copy.tar"), 0);
	CODE(hull("remove image:" IMAGE), 0);
	CODE(hull("sweep --yes"), 0);
	CHECK_INT(count_of("trees", "l"), 0);
	CHECK_INT(count_of("images/blobs/sha256", "l"), 0);
	CHECK_TEXT(marks(), before);
	take_back();
}

static void what_is_missing_there_is_unpacked(void)
{
	lend(IMAGE);
	CODE(hull("create selwick/gauge --layers-from %s/lent --name box "
		  "--network none",
		     world_folder),
		0);
	CHECK(count_of("trees", "l") > 0);
	CHECK(count_of("trees", "d -not -name *.folders") > 0);
	CODE(hull("start box"), 0);
	CODE(hull("remove box --force"), 0);
	CODE(hull("doctor --verify"), 0);
	take_back();
}

/* By the environment and the configuration, too. */
static void it_can_be_set_for_all(void)
{
	struct result *result;

	lend(IMAGE);
	CODE(other("env TIDYHULL_LAYERS_FROM=%s/lent %s/tidyhull pull " IMAGE,
		     world_folder, world_build),
		0);
	CHECK(count_of("trees", "l") > 0);
	CODE(hull("remove image:" IMAGE), 0);
	CODE(other("sh -c 'echo layers-from: %s/lent >>config.yaml'",
		     world_folder),
		0);
	CODE(hull("pull " IMAGE), 0);
	CHECK(count_of("trees", "l") > 0);
	CODE(hull("remove image:" IMAGE), 0);
	CODE(other("sed -i 's,^layers-from:.*,layers-from: lent,' config.yaml"),
		0);
	result = hull("pull " IMAGE);
	CODE(result, 2);
	SAYS(result->err, "begins with /");
	take_back();
}

/* Whoever could change it could change what others run. */
static void an_unsafe_one_is_refused(void)
{
	struct result *result;

	lend(IMAGE);
	CODE(as_root("mount -o remount,bind,rw lent"), 0);
	result = hull("pull " IMAGE " --layers-from lent");
	CODE(result, 5);
	SAYS(result->err, "not mounted read-only");
	SAYS(result->err, "ro,nosuid");
	CODE(as_root("chmod 1777 lent"), 0);
	CODE(as_root("mount -o remount,bind,ro lent"), 0);
	result = hull("pull " IMAGE " --layers-from lent");
	CODE(result, 5);
	SAYS(result->err, "others may write to");
	CODE(as_root("mount -o remount,bind,rw lent"), 0);
	CODE(as_root("chmod 755 lent"), 0);
	CODE(as_root("chown 4242 lent"), 0);
	CODE(as_root("mount -o remount,bind,ro lent"), 0);
	result = hull("pull " IMAGE " --layers-from lent");
	CODE(result, 5);
	SAYS(result->err, "belongs to another user (4242)");
	result = hull("pull " IMAGE " --layers-from nowhere");
	CODE(result, 3);
	SAYS(result->err, "cannot use the unpacked layers in nowhere");
	result = hull("pull " IMAGE " --layers-from /proc/self");
	CHECK(result->code != 0);
	CHECK_INT(count_of("trees", "l"), 0);
	/* What needs no layer is not held up. */
	CODE(other("env TIDYHULL_LAYERS_FROM=nowhere %s/tidyhull sweep",
		     world_build),
		0);
	take_back();
}

static void one_that_is_gone_is_told_and_replaced(void)
{
	struct result *result;

	lend(IMAGE);
	CODE(hull("create " IMAGE " --layers-from %s/lent --name box "
		  "--network none -- true",
		     world_folder),
		0);
	as_root("umount lent");
	result = hull("start box");
	CHECK(result->code != 0);
	SAYS(result->err, "lent");
	result = hull("doctor --verify");
	CHECK(result->code != 0);
	SAYS(result->out, "missing");
	CODE(hull("pull " IMAGE), 0);
	CHECK_INT(count_of("trees", "l"), 0);
	CODE(hull("start box"), 0);
	CODE(hull("wait box"), 0);
	CODE(hull("doctor --verify"), 0);
	CODE(hull("remove box"), 0);
	take_back();
}

/* A layer that was applied on those below, a folder that hides them, and one
 * that only its owner may read. */
static void odd_layers_are_borrowed_too(void)
{
	const struct tar_entry low[] = {
		{.name = "mole", .type = AE_IFDIR, .mode = 0775},
		{.name = "mole/old",
			.type = AE_IFREG,
			.mode = 0644,
			.data = "old\n"},
		{.name = "mole/kept",
			.type = AE_IFREG,
			.mode = 0644,
			.data = "kept\n"},
		{.name = "office", .type = AE_IFDIR, .mode = 0700},
		{.name = "office/till",
			.type = AE_IFREG,
			.mode = 0644,
			.data = "12\n"},
		{.name = NULL}};
	const struct tar_entry high[] = {
		{.name = "mole/again", .data = "mole/kept"},
		{.name = "mole/.wh.old",
			.type = AE_IFREG,
			.mode = 0644,
			.data = ""},
		{.name = "shed/.wh..wh..opq",
			.type = AE_IFREG,
			.mode = 0644,
			.data = ""},
		{.name = "shed/new",
			.type = AE_IFREG,
			.mode = 0644,
			.data = "new\n"},
		{.name = NULL}};
	const char *const files[] = {"low.tar", "high.tar"};
	struct result *result;
	int port;

	copy_images("odd");
	layout_tar("low.tar", low);
	layout_tar("high.tar", high);
	layout_add_image("odd", "selwick/odd:1", files, 2);
	port = start_registry("odd");
	write_config(&port, 1);
	lend("selwick/odd:1");
	CODE(hull("pull selwick/odd:1 --layers-from %s/lent", world_folder), 0);
	CHECK(count_of("trees", "l -name *.own") > 0);
	CODE(hull("create selwick/odd:1 --name odd --network none -- /none"),
		0);
	CODE(hull("copy odd:/mole ./mole"), 0);
	result = other("sh -c 'ls mole; cat mole/again; stat -c %%a mole'");
	CHECK_TEXT(result->out, "again\nkept\nkept\n775\n");
	CODE(hull("copy odd:/shed/new ./new"), 0);
	CODE(hull("copy odd:/office ./office"), 0);
	CHECK_TEXT(
		other("sh -c 'ls office; stat -c %%a office'")->out, "700\n");
	CODE(hull("remove odd"), 0);
	take_back();
}

static void pull_in_steps(int error)
{
	struct step step = {.program = "tidyhull", .error = error};
	int code = 0;

	while (hull_step(&step, &code, "pull " IMAGE " --layers-from %s/lent",
		world_folder)) {
		/* Whatever it has left, the next one takes up. */
		CODE(hull("pull " IMAGE " --layers-from %s/lent", world_folder),
			0);
		CHECK(count_of("trees", "l") > 0);
		CODE(hull("run " IMAGE " --network none --discard -- "
			  "sh -c 'echo 1 >/etc/one'"),
			0);
		CODE(hull("doctor --verify"), 0);
		CODE(hull("remove image:" IMAGE), 0);
		CODE(hull("sweep --yes"), 0);
		CHECK_INT(count_of("partial", "l"), 0);
		CHECK_INT(count_of("tmp", "l"), 0);
		step.number += 11;
	}
	CHECK_INT(code, 0);
	CHECK(step.number > 20);
	CODE(hull("remove image:" IMAGE), 0);
}

static void death_and_refusal_at_any_call(void)
{
	lend(IMAGE);
	pull_in_steps(0);
	pull_in_steps(ENOSPC);
	take_back();
}

static void root_borrows_nothing(void)
{
	struct result *result;

	lend(IMAGE);
	result = hull("pull " IMAGE " --layers-from %s/lent", world_folder);
	CODE(result, 5);
	SAYS(result->err, "by unprivileged users only");
	/* One that is set for all users does not trouble it. */
	CODE(other("env TIDYHULL_LAYERS_FROM=%s/lent %s/tidyhull run " IMAGE
		   " --network none -- true",
		     world_folder, world_build),
		0);
	CHECK_INT(count_of("trees", "l"), 0);
	take_back();
}

static CU_TestInfo tests[] = {{"nothing is unpacked", nothing_is_unpacked},
	{"what is missing there is unpacked",
		what_is_missing_there_is_unpacked},
	{"it can be set for all", it_can_be_set_for_all},
	{"an unsafe one is refused", an_unsafe_one_is_refused},
	{"one that is gone is told and replaced",
		one_that_is_gone_is_told_and_replaced},
	{"odd layers are borrowed too", odd_layers_are_borrowed_too},
	{"death and refusal at any call", death_and_refusal_at_any_call},
	{"root borrows nothing", root_borrows_nothing}, CU_TEST_INFO_NULL};

const struct suite suite_borrow = {"borrow", tests};
