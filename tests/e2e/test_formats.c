/* What is written to the disk, against the OCI specifications' own schemas. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

#define SPECS "/usr/share/gocode/src/github.com/opencontainers"

/* Checks a file of the test's folder against a schema. */
static void check_schema(const char *schema, const char *file)
{
	struct result *result = other(
		"/usr/bin/python3 %s/../tests/e2e/validate.py " SPECS "/%s %s",
		world_build, schema, file);

	if (result->code)
		printf("\n    %s: %s\n", file, result->err);
	CODE(result, 0);
}

static void the_store_is_an_oci_image_layout(void)
{
	char file[300];
	json_t *index;
	const char *digest;

	CODE(hull("pull selwick/gauge selwick/ledger"), 0);
	check_schema("image-spec/schema/image-layout-schema.json",
		"store/images/oci-layout");
	check_schema("image-spec/schema/image-index-schema.json",
		"store/images/index.json");
	snprintf(file, sizeof(file), "%s/images/index.json", world_store);
	index = json_load_file(file, 0, NULL);
	digest = json_string_value(json_object_get(
		json_array_get(json_object_get(index, "manifests"), 0),
		"digest"));
	CHECK(digest != NULL);
	snprintf(file, sizeof(file), "store/images/blobs/sha256/%s",
		digest ? digest + 7 : "");
	check_schema("image-spec/schema/image-manifest-schema.json", file);
	json_decref(index);
	/* And it can be served as it is. */
	CHECK(start_registry("store/images") > 0);
}

static void the_demo_images_are_one_too(void)
{
	char file[700];

	snprintf(file, sizeof(file), "%s/demo-images/index.json", world_build);
	check_schema("image-spec/schema/image-index-schema.json", file);
	snprintf(file, sizeof(file), "%s/demo-images/oci-layout", world_build);
	check_schema("image-spec/schema/image-layout-schema.json", file);
}

static void bundles_are_valid(void)
{
	static const char *const lines[] = {"create selwick/gauge --name box",
		"create selwick/base --name box --user pilot --tty yes "
		"--read-only --capability +NET_ADMIN --mount /x=memory:1M "
		"--mount /y=./y,make,ro --env A=1 --workdir /srv --hostname h",
		"create selwick/base --name box --network host --port 80",
		"create selwick/base --name box --network none --port 80"};

	for (size_t i = 0; i < COUNT_OF(lines); i++) {
		char file[200];

		if (hull("%s", lines[i])->code)
			continue;
		snprintf(file, sizeof(file), "store/containers/%s/config.json",
			field("box", "id"));
		check_schema("runtime-spec/schema/config-schema.json", file);
		CODE(hull("remove box"), 0);
	}
}

static void the_log_is_json_lines(void)
{
	char id[32], file[300], line[4096];
	FILE *log;
	int lines = 0;

	CODE(hull("run selwick/base --keep --name box --network none -- sh -c "
		  "'echo one; printf \"\\\\377\\\\n\"; echo three >&2'"),
		0);
	snprintf(id, sizeof(id), "%s", field("box", "id"));
	snprintf(file, sizeof(file), "%s/containers/%s/log.jsonl", world_store,
		id);
	log = fopen(file, "r");
	while (log && fgets(line, sizeof(line), log)) {
		json_t *entry = json_loads(line, 0, NULL);

		CHECK(json_is_integer(json_object_get(entry, "at")));
		CHECK_INT(json_object_size(entry), 2);
		json_decref(entry);
		lines++;
	}
	if (log)
		fclose(log);
	CHECK_INT(lines, 3);
	CODE(hull("remove box"), 0);
}

/* Whoever is killed while it writes the index leaves a file beside it. */
static void unfinished_ones_go_with_the_next(void)
{
	char path[320];

	CODE(hull("unpack -q %s/demo-images --only selwick/base", world_build),
		0);
	snprintf(path, sizeof(path), "%s/images/index.json.999.new",
		world_store);
	put_file("store/images/index.json.999.new", "{\"sche");
	CHECK_INT(access(path, F_OK), 0);
	CODE(hull("tag selwick/base harbour:x"), 0);
	CHECK_INT(access(path, F_OK), -1);
	CODE(hull("remove harbour:x"), 0);
}

static const CU_TestInfo tests[] = {
	{"the store is an OCI image layout", the_store_is_an_oci_image_layout},
	{"the demo images are one too", the_demo_images_are_one_too},
	{"bundles are valid", bundles_are_valid},
	{"the log is JSON lines", the_log_is_json_lines},
	{"unfinished ones go with the next", unfinished_ones_go_with_the_next},
	CU_TEST_INFO_NULL};

const struct suite suite_formats = {"formats", tests};
