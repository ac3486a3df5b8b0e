/* changes: of a container, between images, and what nobody can see. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

/* The change that --json tells of the path; NULL where there is none. */
static const json_t *change_of(const json_t *doc, const char *path)
{
	const json_t *list = json_object_get(doc, "changes"), *item;
	size_t i;

	json_array_foreach(list, i, item)
	{
		if (strcmp(json_string_value(json_object_get(item, "path")),
			    path) == 0)
			return item;
	}
	return NULL;
}

/* "new", "gone", or "changed: mode, owner"; "" for none. */
static void is(const json_t *doc, const char *path, const char *wanted)
{
	const json_t *change = change_of(doc, path), *item;
	char text[200] = "";
	size_t i;

	if (change)
		snprintf(text, sizeof(text), "%s",
			json_string_value(json_object_get(change, "change")));
	json_array_foreach(json_object_get(change, "what"), i, item)
	{
		size_t used = strlen(text);

		snprintf(text + used, sizeof(text) - used, "%s%s",
			i ? ", " : ": ", json_string_value(item));
	}
	if (strcmp(text, wanted) != 0)
		printf("\n    %s: %s instead of %s\n", path, text, wanted);
	CHECK_TEXT(text, wanted);
}

static void a_container_tells_what_it_has_written(void)
{
	struct result *result;
	json_t *doc;

	put_file("token", "m00ring-7");
	CODE(hull("create selwick/base --name box --network none --mount "
		  "/data=volume:ledger --secret token=@file:%s/token -- sleep "
		  "1000",
		     world_folder),
		0);
	SAYS(hull("changes box")->out, "nothing has changed");
	CODE(hull("start box"), 0);
	/* Places for mounts are not its own. */
	SAYS(hull("changes box")->out, "nothing has changed");
	CODE(hull("exec box -- sh -c 'echo x >> /etc/passwd; chmod 600 "
		  "/etc/group; touch /bin/busybox; chown 7:8 /srv; mkdir -p "
		  "/var/berth/a; echo 123 > /var/berth/a/f; ln -s /x /link; rm "
		  "/bin/cat; echo kept > /data/volume; cp /etc/passwd /tmp/p; "
		  "mkdir /etc/late; chmod 755 /etc/late'"),
		0);
	for (int stopped = 0; stopped < 2; stopped++) {
		doc = hull_json("changes box --json");
		is(doc, "/etc/passwd", "changed: content");
		is(doc, "/etc/group", "changed: mode");
		is(doc, "/bin/busybox", "changed: time");
		is(doc, "/srv", "changed: owner");
		is(doc, "/var/berth", "new");
		is(doc, "/var/berth/a/f", "new");
		is(doc, "/link", "new");
		is(doc, "/bin/cat", "gone");
		is(doc, "/etc/late", "new");
		is(doc, "/data", "");
		is(doc, "/data/volume", "");
		is(doc, "/etc/hosts", "");
		is(doc, "/etc", "");
		CHECK_INT(json_integer_value(json_object_get(
				  change_of(doc, "/var/berth/a/f"), "bytes")),
			4);
		json_decref(doc);
		if (!stopped)
			CODE(hull("stop box --grace 0s"), 0);
	}
	result = hull("changes box");
	SAYS(result->out, "6 new (121 B), 4 changed (2.0 MB), 1 gone\n");
	SAYS(result->out, "content");
	SAYS(hull("changes box --flat")->out, "/var/berth/a/f");
	SAYS(hull("changes box -q")->out, "/etc/passwd\n");
	CODE(hull("changes nobody"), 3);
	CODE(hull("changes box selwick/base"), 3);
	CODE(hull("remove box volume:ledger"), 0);
}

/* A folder that was removed and made anew hides all that the image had. */
static void a_folder_made_anew_hides_the_old_one(void)
{
	const struct tar_entry entries[] = {
		{.name = "pier/", .type = S_IFDIR, .mode = 0755},
		{.name = "pier/one",
			.type = S_IFREG,
			.mode = 0644,
			.data = "1"},
		{.name = "pier/deep/", .type = S_IFDIR, .mode = 0755},
		{.name = "pier/deep/two",
			.type = S_IFREG,
			.mode = 0644,
			.data = "22"},
		{.name = "mole/", .type = S_IFDIR, .mode = 0755},
		{.name = "mole/three",
			.type = S_IFREG,
			.mode = 0644,
			.data = "333"},
		{.name = NULL}};
	static const char *const files[] = {"one.tar"};
	json_t *doc;
	int port;

	copy_images("copy");
	layout_tar("one.tar", entries);
	layout_add_image("copy", "selwick/pier:1", files, 1);
	port = start_registry("copy");
	write_config(&port, 1);
	CODE(hull("pull selwick/pier:1 selwick/base"), 0);
	CODE(hull("create selwick/pier:1 --name box --network none -- /x"), 0);
	/* By hand, as the image has no program. */
	CODE(hull("copy ./one.tar box:/pier/four"), 0);
	doc = hull_json("changes box --json");
	is(doc, "/pier/four", "new");
	is(doc, "/pier/one", "");
	json_decref(doc);
	CODE(hull("remove box"), 0);

	CODE(hull("run selwick/base --keep --name box --network none -- sh -c "
		  "'rm -r /etc; mkdir /etc; echo new > /etc/passwd; echo odd > "
		  "\"/$(printf tide\\\\377)\"'"),
		0);
	doc = hull_json("changes box --json");
	is(doc, "/etc/passwd", "changed: content");
	is(doc, "/etc/group", "gone");
	is(doc, "/tide<FF>", "new");
	json_decref(doc);
	SAYS(hull("changes box --flat")->out, "/tide<FF>");
	CODE(hull("remove box"), 0);
}

static void images_are_compared(void)
{
	const struct tar_entry first[] = {
		{.name = "pier/", .type = S_IFDIR, .mode = 0755},
		{.name = "pier/one",
			.type = S_IFREG,
			.mode = 0644,
			.data = "1"},
		{.name = "pier/two",
			.type = S_IFREG,
			.mode = 0644,
			.data = "22"},
		{.name = "mole/", .type = S_IFDIR, .mode = 0755},
		{.name = "mole/three",
			.type = S_IFREG,
			.mode = 0644,
			.data = "333"},
		{.name = "same", .type = S_IFREG, .mode = 0644, .data = "same"},
		{.name = NULL}};
	const struct tar_entry second[] = {{.name = "pier/one",
						   .type = S_IFREG,
						   .mode = 0600,
						   .data = "one"},
		{.name = "pier/.wh.two", .type = S_IFREG, .mode = 0644},
		{.name = ".wh.mole", .type = S_IFREG, .mode = 0644},
		{.name = "basin", .type = S_IFREG, .mode = 0644, .data = "new"},
		{.name = NULL}};
	/* The same as both, in one layer. */
	const struct tar_entry flat[] = {
		{.name = "pier/", .type = S_IFDIR, .mode = 0755},
		{.name = "pier/one",
			.type = S_IFREG,
			.mode = 0600,
			.data = "one"},
		{.name = "basin", .type = S_IFREG, .mode = 0644, .data = "new"},
		{.name = "same", .type = S_IFREG, .mode = 0644, .data = "same"},
		{.name = NULL}};
	static const char *const files[] = {"one.tar", "two.tar"};
	static const char *const whole[] = {"flat.tar"};
	json_t *doc;
	int port;

	copy_images("copy");
	layout_tar("one.tar", first);
	layout_tar("two.tar", second);
	layout_tar("flat.tar", flat);
	layout_add_image("copy", "selwick/pier:1", files, 1);
	layout_add_image("copy", "selwick/pier:2", files, 2);
	layout_add_image("copy", "selwick/pier:flat", whole, 1);
	port = start_registry("copy");
	write_config(&port, 1);
	CODE(hull("pull selwick/pier:1 selwick/pier:2 selwick/pier:flat"), 0);
	doc = hull_json("changes selwick/pier:1 selwick/pier:2 --json");
	is(doc, "/pier/one", "changed: content, mode");
	is(doc, "/pier/two", "gone");
	is(doc, "/mole", "gone");
	is(doc, "/mole/three", "");
	is(doc, "/basin", "new");
	is(doc, "/same", "");
	CHECK_INT(json_integer_value(
			  json_object_get(change_of(doc, "/mole"), "bytes")),
		3);
	json_decref(doc);
	/* And back; and layers do not matter. */
	doc = hull_json("changes selwick/pier:2 selwick/pier:1 --json");
	is(doc, "/mole", "new");
	is(doc, "/mole/three", "new");
	is(doc, "/basin", "gone");
	json_decref(doc);
	SAYS(hull("changes selwick/pier:2 selwick/pier:flat")->out,
		"nothing has changed");
	/* What the second layer hides of the first. */
	doc = hull_json("changes selwick/pier:2 --json");
	CHECK_INT(json_integer_value(json_object_get(doc, "bytes")), 6);
	CHECK_INT(json_array_size(json_object_get(doc, "hidden")), 3);
	json_decref(doc);
	SAYS(hull("changes selwick/pier:2")->out, "/mole/three");
	SAYS(hull("changes selwick/pier:flat")->out,
		"no file of its 1 layer is hidden");
}

static const CU_TestInfo tests[] = {
	{"a container tells what it has written",
		a_container_tells_what_it_has_written},
	{"a folder made anew hides the old one",
		a_folder_made_anew_hides_the_old_one},
	{"images are compared", images_are_compared}, CU_TEST_INFO_NULL};

const struct suite suite_changes = {"changes", tests};
