/* What the options of a mount come to, and the ID maps that go with it. */
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/idmap.h"
#include "sandbox/mount_options.h"
#include "sandbox/mounts.h"
#include "unit/unit.h"

/* Options with commas between; type NULL: none is given. */
static int plan(const char *type, const char *options, struct mount_plan *plan,
	struct th_error *err)
{
	char copy[200], *rest = NULL;
	struct th_mount mount = {
		.target = (char *)(uintptr_t) "/data", .type = NULL};
	int rc;

	memset(err, 0, sizeof(*err));
	mount.type = type ? strdup(type) : NULL;
	snprintf(copy, sizeof(copy), "%s", options);
	for (char *word = strtok_r(copy, ",", &rest); word;
		word = strtok_r(NULL, ",", &rest))
		th_strings_add(&mount.options, word);
	rc = mount_plan_read(&mount, plan, err);
	th_strings_release(&mount.options);
	free(mount.type);
	return rc;
}

static void attributes_add_up(void)
{
	struct mount_plan one;
	struct th_error err;

	CHECK_INT(plan("bind", "rbind,ro,nosuid,rnoexec", &one, &err), 0);
	CHECK(one.bind && one.recursive);
	CHECK_INT(one.top.set, MOUNT_ATTR_RDONLY | MOUNT_ATTR_NOSUID);
	CHECK_INT(one.all.set, MOUNT_ATTR_NOEXEC);
	th_strings_release(&one.rest);
	/* The later word wins. */
	CHECK_INT(plan("bind", "ro,rw,nodev,dev,noatime,relatime", &one, &err),
		0);
	CHECK_INT(one.top.set & (MOUNT_ATTR_RDONLY | MOUNT_ATTR_NODEV), 0);
	CHECK_INT(one.top.clear & MOUNT_ATTR_RDONLY, MOUNT_ATTR_RDONLY);
	CHECK_INT(one.top.set & MOUNT_ATTR__ATIME, MOUNT_ATTR_RELATIME);
	th_strings_release(&one.rest);
}

static void propagation_is_of_one_or_all(void)
{
	struct mount_plan one;
	struct th_error err;

	CHECK_INT(plan("bind", "bind,rslave", &one, &err), 0);
	CHECK_INT(one.propagation, MS_SLAVE);
	CHECK(one.propagation_all && !one.recursive);
	CHECK_INT(plan("bind", "bind,shared", &one, &err), 0);
	CHECK_INT(one.propagation, MS_SHARED);
	CHECK(!one.propagation_all);
}

static void what_a_file_system_knows_is_its_own(void)
{
	struct mount_plan one;
	struct th_error err;

	CHECK_INT(
		plan("tmpfs", "nosuid,size=64k,mode=0700,defaults", &one, &err),
		0);
	CHECK_INT(one.rest.count, 2);
	if (one.rest.count == 2)
		CHECK_TEXT(one.rest.items[0], "size=64k");
	CHECK(!one.bind);
	th_strings_release(&one.rest);
	CHECK_INT(plan("tmpfs", "tmpcopyup", &one, &err), 0);
	CHECK(one.copy_up);
	th_strings_release(&one.rest);
}

static void what_does_not_fit_is_refused(void)
{
	static const char *const bad[][2] = {{"bind", "bind,size=64k"},
		{"tmpfs", "idmap"}, {"bind", "tmpcopyup"},
		{"proc", "tmpcopyup"}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct mount_plan one;
		struct th_error err;

		CHECK_INT(plan(bad[i][0], bad[i][1], &one, &err), -1);
		CHECK_INT(err.code, TH_NOT_POSSIBLE);
		th_strings_release(&one.rest);
	}
}

/* All words that are said to be known are taken. */
static void every_word_that_is_told_is_known(void)
{
	struct th_strings words = {0};

	CHECK_INT(th_mount_options(&words), 0);
	CHECK(words.count > 50);
	for (size_t i = 0; i < words.count; i++) {
		bool copy_up = strcmp(words.items[i], "tmpcopyup") == 0;
		struct mount_plan one;
		struct th_error err;

		CHECK_INT(plan(copy_up ? "tmpfs" : "bind", words.items[i], &one,
				  &err),
			0);
		CHECK_INT(one.rest.count, 0);
		th_strings_release(&one.rest);
	}
	th_strings_release(&words);
}

/* ---- ID maps ---- */

static const char *write_map(const char *text)
{
	static char path[96];

	CHECK_INT(th_file_replace(unit_folder_fd, "map", text, strlen(text),
			  0600, false, NULL),
		0);
	snprintf(path, sizeof(path), "%s/map", unit_folder);
	return path;
}

static void maps_are_read(void)
{
	static struct th_id_map lines[TH_ID_MAP_LINES];
	const char *path = write_map("         0       1000          1\n"
				     "         1     200000      65536\n");

	CHECK_INT(th_idmap_read(path, lines), 2);
	CHECK_INT(lines[0].inside, 0);
	CHECK_INT(lines[0].outside, 1000);
	CHECK_INT(lines[1].size, 65536);
	CHECK_INT(th_idmap_read("/nonexistent", lines), 0);
}

/* A caller outside says host IDs; inside they are those of the map. */
static void maps_of_the_caller_become_ours(void)
{
	const char *path = write_map("0 1000 1\n1 200000 1000\n");
	struct th_id_maps maps = {
		.items = calloc(2, sizeof(*maps.items)), .count = 2};
	struct th_error err = {0};

	maps.items[0] = (struct th_id_map){.outside = 1000, .size = 1};
	maps.items[1] =
		(struct th_id_map){.inside = 1, .outside = 200010, .size = 100};
	CHECK_INT(th_idmap_from_caller(path, &maps, &err), 0);
	CHECK_INT(maps.items[0].outside, 0);
	CHECK_INT(maps.items[1].outside, 11);
	maps.items[0] = (struct th_id_map){.outside = 5000, .size = 1};
	maps.count = 1;
	CHECK_INT(th_idmap_from_caller(path, &maps, &err), -1);
	CHECK_INT(err.code, TH_NOT_POSSIBLE);
	free(maps.items);
}

static const CU_TestInfo tests[] = {{"attributes add up", attributes_add_up},
	{"propagation", propagation_is_of_one_or_all},
	{"of file systems", what_a_file_system_knows_is_its_own},
	{"what does not fit", what_does_not_fit_is_refused},
	{"every word is known", every_word_that_is_told_is_known},
	{"maps are read", maps_are_read},
	{"maps of the caller", maps_of_the_caller_become_ours},
	CU_TEST_INFO_NULL};

const struct suite suite_mount_options = {"mount-options", tests};
