/* What docs/json.md promises: each document has the members that stand there,
 * of the kinds that stand there, and nothing but JSON is on standard output. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

/* "name:kind" words: s text, i number, b truth, o object, a array, n null. A
 * kind of several letters allows any of them. */
static void check_members(
	const char *what, const json_t *doc, const char *const *members)
{
	for (; *members; members++) {
		const char *colon = strchr(*members, ':');
		char name[64];
		const json_t *member;
		bool fits = false;

		snprintf(name, sizeof(name), "%.*s", (int)(colon - *members),
			*members);
		member = json_object_get(doc, name);
		for (const char *kind = colon + 1; *kind; kind++) {
			fits |= *kind == 's' && json_is_string(member);
			fits |= *kind == 'i' && json_is_integer(member);
			fits |= *kind == 'b' && json_is_boolean(member);
			fits |= *kind == 'o' && json_is_object(member);
			fits |= *kind == 'a' && json_is_array(member);
			fits |= *kind == 'n' && json_is_null(member);
		}
		if (!fits)
			printf("\n    %s: \"%s\" is missing or of another "
			       "kind\n",
				what, name);
		CHECK(fits);
	}
}

static const json_t *first_of(const json_t *doc, const char *key)
{
	return json_array_get(json_object_get(doc, key), 0);
}

static const char *const image_members[] = {"kind:s", "digest:s", "names:a",
	"platform:s", "created:s", "size:i", "on-disk:i", "shared:i",
	"pulled:s", "containers:i", NULL};
static const char *const layer_members[] = {
	"digest:s", "diff-id:s", "size:i", "unpacked:i", "shared-with:a", NULL};
static const char *const pulled_members[] = {"name:s", "digest:s", "layers:i",
	"already-here:i", "transferred:i", "notes:a", NULL};

static void images_are_documented(void)
{
	static const char *const shown[] = {"layers:a", "config:o", NULL};
	const json_t *one;
	json_t *doc;

	doc = hull_json("pull selwick/gauge selwick/gauge:1 --json");
	CHECK_INT(json_array_size(json_object_get(doc, "pulled")), 2);
	check_members("pull", first_of(doc, "pulled"), pulled_members);
	json_decref(doc);
	doc = hull_json("list images --json");
	check_members("list images", first_of(doc, "images"), image_members);
	json_decref(doc);
	doc = hull_json("show selwick/gauge --json");
	one = first_of(doc, "objects");
	check_members("show", one, image_members);
	check_members("show", one, shown);
	check_members("layer", first_of(one, "layers"), layer_members);
	json_decref(doc);
}

static void moves_are_documented(void)
{
	static const char *const packed[] = {
		"file:s", "images:i", "size:i", NULL};
	static const char *const pushed[] = {"name:s", "digest:s", "layers:i",
		"already-there:i", "taken-over:i", "transferred:i", NULL};
	json_t *doc;
	int port;

	CODE(hull("pull selwick/gauge"), 0);
	doc = hull_json("pack selwick/gauge x.tar --json");
	check_members("pack", doc, packed);
	json_decref(doc);
	doc = hull_json("unpack x.tar --json");
	check_members("unpack", first_of(doc, "pulled"), pulled_members);
	json_decref(doc);
	copy_images("copy");
	port = start_chandler("copy", NULL, "--writable");
	/* Not configured, so spoken to over TLS: an error is no document. */
	CHECK_TEXT(hull("push selwick/gauge localhost:%d/x --json", port)->out,
		"");
	write_config(&port, 1);
	doc = hull_json(
		"push selwick/gauge localhost:%d/selwick/new --json", port);
	check_members("push", doc, pushed);
	json_decref(doc);
}

static void looks_are_documented(void)
{
	static const char *const found[] = {
		"name:s", "host:s", "path:s", "tags:a", NULL};
	static const char *const peeked[] = {"name:s", "digest:s",
		"platforms:a", "platform:s", "manifest-digest:s", "created:s",
		"download:i", "layers:a", "config:o", "history:a", NULL};
	static const char *const layer[] = {"digest:s", "diff-id:s", "size:i",
		"media-type:s", "made-by:s", NULL};
	static const char *const tags[] = {"name:s", "tags:a", NULL};
	static const char *const swept[] = {"images:a", "image-bytes:i",
		"networks:a", "layers:i", "layer-bytes:i", "blobs:i",
		"blob-bytes:i", "unfinished:i", "unfinished-bytes:i",
		"removed:b", NULL};
	static const char *const able[] = {"version:s", "mode:s", "root:s",
		"keeper:s", "able:b", "checks:a", NULL};
	json_t *doc;

	doc = hull_json("find gauge --json");
	check_members("find", first_of(doc, "found"), found);
	CHECK(json_is_array(json_object_get(doc, "notes")));
	json_decref(doc);
	doc = hull_json("peek selwick/gauge --json");
	check_members("peek", doc, peeked);
	check_members("peek's layer", first_of(doc, "layers"), layer);
	json_decref(doc);
	doc = hull_json("peek selwick/gauge --tags --json");
	check_members("peek --tags", doc, tags);
	json_decref(doc);
	doc = hull_json("sweep --json");
	check_members("sweep", doc, swept);
	json_decref(doc);
	doc = hull_json("doctor --json");
	check_members("doctor", doc, able);
	json_decref(doc);
}

static void containers_are_documented(void)
{
	static const char *const container[] = {"kind:s", "id:s", "name:s",
		"command:s", "state:s", "outcome:on", "image:s",
		"image-digest:s", "keep:b", "created:s", "started:sn",
		"ended:sn", "ports:a", "network:s", "address:s", "address6:s",
		"networks:a", NULL};
	static const char *const settings[] = {"name:s", "image:s", "port:a",
		"mount:a", "env:a", "network:s", "keep:b", NULL};
	static const char *const port[] = {"port:i", "protocol:s", "address:s",
		"host-port:i", "reach:s", NULL};
	const json_t *one;
	json_t *doc;

	doc = hull_json("launch selwick/gauge --name box --port 80 --json");
	check_members("launch", doc, container);
	check_members("port", first_of(doc, "ports"), port);
	json_decref(doc);
	doc = hull_json("list --json");
	check_members("list", first_of(doc, "containers"), container);
	CHECK(json_is_integer(json_object_get(doc, "not-shown")));
	json_decref(doc);
	doc = hull_json("show box --json");
	one = first_of(doc, "objects");
	check_members("show", one, container);
	check_members("settings", json_object_get(one, "settings"), settings);
	json_decref(doc);
	doc = hull_json("ports --json");
	one = first_of(doc, "containers");
	check_members("ports", first_of(one, "ports"), port);
	json_decref(doc);
	CODE(hull("remove --force box"), 0);
}

static void other_objects_are_documented(void)
{
	static const char *const network[] = {"kind:s", "name:s", "subnet:s",
		"subnet6:s", "outside:b", "host-loopback:b", "up:b",
		"by-hand:b", "created:s", "containers:a", NULL};
	static const char *const volume[] = {"kind:s", "name:s", "named:b",
		"size:i", "created:s", "used:sn", "containers:a", "path:s",
		NULL};
	static const char *const place[] = {
		"network:s", "address:s", "address6:s", NULL};
	json_t *doc;

	CODE(hull("create selwick/base --name box --network berths --network "
		  "quayside --mount /data=volume:ledger -- true"),
		0);
	doc = hull_json("list networks --json");
	check_members("list networks", first_of(doc, "networks"), network);
	json_decref(doc);
	doc = hull_json("show network:berths volume:ledger box --json");
	check_members("show network", first_of(doc, "objects"), network);
	check_members("show volume",
		json_array_get(json_object_get(doc, "objects"), 1), volume);
	check_members("networks",
		first_of(json_array_get(json_object_get(doc, "objects"), 2),
			"networks"),
		place);
	json_decref(doc);
	CODE(hull("remove box volume:ledger network:berths network:quayside"),
		0);
}

static json_t *error_of(const char *line, int code)
{
	struct result *result = hull("%s", line);
	json_t *doc;

	CODE(result, code);
	doc = json_loads(result->err, 0, NULL);
	CHECK(json_is_object(json_object_get(doc, "error")));
	return doc;
}

static void errors_are_documented(void)
{
	const char *kind, *message, *hint;
	json_t *doc = error_of("show nosuch --json", 3), *problems;

	CHECK_INT(json_unpack(doc, "{s:{s:s s:s s:s s:o}}", "error", "kind",
			  &kind, "message", &message, "hint", &hint, "problems",
			  &problems),
		0);
	CHECK_TEXT(kind, "not-found");
	SAYS(message, "\"nosuch\"");
	CHECK(json_array_size(problems) == 0);
	json_decref(doc);
	doc = error_of("create selwick/base --port 99999 --mount x --json", 2);
	CHECK_INT(json_unpack(doc, "{s:{s:s s:n s:o}}", "error", "message",
			  &message, "hint", "problems", &problems),
		0);
	SAYS(message, "cannot create");
	CHECK(json_array_size(problems) >= 2);
	json_decref(doc);
	json_decref(error_of("list --json --colour", 2));
	/* Bytes that are no text stay readable. */
	json_decref(error_of("show \xff --json", 3));
	CHECK(strncmp(hull("show nosuch")->err, "tidyhull: ", 10) == 0);
}

static const CU_TestInfo tests[] = {
	{"images are documented", images_are_documented},
	{"moves are documented", moves_are_documented},
	{"looks are documented", looks_are_documented},
	{"containers are documented", containers_are_documented},
	{"other objects are documented", other_objects_are_documented},
	{"errors are documented", errors_are_documented}, CU_TEST_INFO_NULL};

const struct suite suite_json_forms = {"json-forms", tests};
