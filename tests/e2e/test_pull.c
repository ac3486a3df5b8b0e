/* pull, and list images. */
#include <dirent.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static void an_image_comes_whole_and_once(void)
{
	struct result *result = hull("pull selwick/gauge");
	json_t *doc, *image;

	CODE(result, 0);
	SAYS(result->out, "3 of 3 layers");
	SAYS(result->out, "/selwick/gauge:latest");
	/* The second image shares two layers with the first. */
	result = hull("pull selwick/almanac:1");
	SAYS(result->out, "1 of 3 layers");
	result = hull("pull selwick/gauge selwick/base --quiet");
	CODE(result, 0);
	CHECK(strncmp(result->out, "sha256:", 7) == 0);
	CHECK_INT(strlen(result->out), 2 * 72);
	CHECK_TEXT(result->err, "");
	doc = hull_json("list images --json");
	CHECK_INT(json_array_size(json_object_get(doc, "images")), 3);
	image = json_array_get(json_object_get(doc, "images"), 0);
	CHECK_TEXT(json_string_value(json_object_get(image, "kind")), "image");
	json_decref(doc);
	result = hull("list images");
	SAYS(result->out, "/selwick/gauge    latest");
	SAYS(result->out, "/selwick/almanac  1  ");
}

static void by_host_and_by_digest(void)
{
	char digest[100];
	struct result *result;

	result =
		hull("pull localhost:%d/selwick/gauge -q", world_registry_port);
	CODE(result, 0);
	snprintf(digest, sizeof(digest), "%.71s", result->out);
	result = hull("pull selwick/gauge@%s", digest);
	CODE(result, 0);
	CODE(hull("show %s", digest), 0);
	CODE(hull("show image:%.10s", digest + 7), 0);
}

/* Copies the demo images and changes one byte of a blob. */
static int damaged_registry(const char *kind)
{
	struct result *result;
	char find[400];
	FILE *file;
	int byte;

	other("cp -r %s/demo-images damaged", world_build);
	/* The base's first layer is the largest blob but for programs'. */
	result = other("sh -c 'ls -S damaged/blobs/sha256 | head -n 1'");
	result->out[64] = '\0';
	snprintf(find, sizeof(find), "%s/damaged/blobs/sha256/%.64s",
		world_folder, result->out);
	if (strcmp(kind, "missing") == 0) {
		unlink(find);
	} else if (strcmp(kind, "short") == 0) {
		CHECK_INT(truncate(find, 1000), 0);
	} else {
		file = fopen(find, "r+");
		fseek(file, strcmp(kind, "middle") == 0 ? 300000 : -1,
			strcmp(kind, "middle") == 0 ? SEEK_SET : SEEK_END);
		byte = fgetc(file);
		fseek(file, -1, SEEK_CUR);
		fputc(byte ^ 1, file);
		fclose(file);
	}
	return start_registry("damaged");
}

static void nothing_is_kept(void)
{
	struct result *result = hull("list images");

	SAYS(result->out, "there are no images");
	result = other("sh -c 'find store/trees store/tmp -mindepth 1'");
	CHECK_TEXT(result->out, "");
}

static void what_is_not_what_it_says_is_refused(void)
{
	static const struct {
		const char *kind, *says;
		int code;
	} cases[] = {{"middle", "does not match the manifest", 6},
		{"end", "does not match the manifest", 6},
		{"short", "bytes instead of", 6}, {"missing", "has no", 3}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		int port = damaged_registry(cases[i].kind);
		struct result *result;

		write_config(&port, 1);
		result = hull("pull selwick/gauge");
		if (result->code != cases[i].code)
			printf("\n    %s: %s\n", cases[i].kind, result->err);
		CODE(result, cases[i].code);
		SAYS(result->err, "layer ");
		SAYS(result->err, cases[i].says);
		nothing_is_kept();
		other("rm -rf damaged");
		if (i == 2)
			break; /* registries are few */
	}
}

static void unknown_names_and_registries_are_told(void)
{
	struct result *result;
	int none = 1;

	result = hull("pull selwick/lighthouse");
	CODE(result, 3);
	SAYS(result->err, "no registry has selwick/lighthouse:latest");
	result = hull("pull selwick/gauge:99");
	CODE(result, 3);
	result =
		hull("pull localhost:%d/selwick/gauge:99", world_registry_port);
	CODE(result, 3);
	SAYS(result->err, "does not have selwick/gauge:99");
	result = hull("pull Selwick/Gauge");
	CODE(result, 2);
	SAYS(result->err, "lower-case");
	write_config(&none, 1);
	result = hull("pull localhost:1/selwick/gauge");
	CODE(result, 6);
	SAYS(result->err, "http://localhost:1");
	SAYS(result->err, "is running");
	result = hull("pull selwick/gauge");
	CODE(result, 6);
	nothing_is_kept();
}

static void https_is_never_given_up_silently(void)
{
	struct result *result;

	put_file("config.yaml", "registries: []\n");
	result = hull("pull localhost:%d/selwick/gauge", world_registry_port);
	CODE(result, 6);
	SAYS(result->err, "https://localhost");
	SAYS(result->err, "transport: http");
	result = hull("pull selwick/gauge");
	CODE(result, 3);
	SAYS(result->err, "search: true");
}

static void two_registries_with_one_name_are_a_question(void)
{
	char path[600];
	struct result *result;
	int ports[2];

	snprintf(path, sizeof(path), "%s/demo-images", world_build);
	ports[0] = world_registry_port;
	ports[1] = start_registry(path);
	write_config(ports, 2);
	result = hull("pull selwick/gauge");
	CODE(result, 2);
	SAYS(result->err, "2 registries have selwick/gauge:latest");
	SAYS(result->err, "choose: ");
	result = hull("pull localhost:%d/selwick/gauge", ports[1]);
	CODE(result, 0);
}

static void two_pulls_at_once_end_well(void)
{
	pid_t pids[4];

	for (size_t i = 0; i < COUNT_OF(pids); i++)
		pids[i] = hull_start("out", "pull selwick/gauge");
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		CHECK_INT(wait_for(pids[i]), 0);
	CODE(hull("run selwick/base -- true"), 0);
}

static const CU_TestInfo tests[] = {
	{"an image comes whole and once", an_image_comes_whole_and_once},
	{"by host and by digest", by_host_and_by_digest},
	{"what is not what it says is refused",
		what_is_not_what_it_says_is_refused},
	{"unknown names and registries", unknown_names_and_registries_are_told},
	{"https is never given up silently", https_is_never_given_up_silently},
	{"two registries with one name",
		two_registries_with_one_name_are_a_question},
	{"two pulls at once end well", two_pulls_at_once_end_well},
	CU_TEST_INFO_NULL};

const struct suite suite_pull = {"pull", tests};
