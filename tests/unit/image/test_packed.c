#include "image/packed.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "lib/tar.h"
#include "unit/unit.h"

#define LAYOUT "{\"imageLayoutVersion\":\"1.0.0\"}"
#define D64 "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
#define ITEM(name)                                                             \
	"{\"digest\":\"sha256:" D64 "\",\"annotations\":{"                     \
	"\"org.opencontainers.image.ref.name\":\"" name "\"}}"
#define FILE_ENTRY(name, data)                                                 \
	{                                                                      \
		name, AE_IFREG, 0644, data, 0, NULL                            \
	}
#define END_ENTRY                                                              \
	{                                                                      \
		NULL, 0, 0, NULL, 0, NULL                                      \
	}

static char file[128];

static void write_tar(const char *name, const struct tar_entry *entries)
{
	struct th_buf tar;

	th_buf_init(&tar, 1 << 20);
	tar_make(&tar, entries);
	snprintf(file, sizeof(file), "%s/%s", unit_folder, name);
	CHECK_INT(th_file_replace(
			  AT_FDCWD, file, tar.data, tar.len, 0644, false, NULL),
		0);
	th_buf_release(&tar);
}

/* Opens the file; its error's message where that fails. */
static int try_open(struct th_error *err)
{
	struct th_packed *packed = NULL;
	int rc =
		th_packed_open(NULL, file, (struct th_cancel){0}, &packed, err);

	th_packed_close(packed);
	return rc;
}

static void names_are_read(void)
{
	static const struct {
		const char *item, *file, *name;
	} cases[] = {{ITEM("a.example/x:1"), "f.tar", "a.example/x:1"},
		{ITEM("x/y"), "f.tar", "x/y:latest"},
		{ITEM("1.0"), "gauge.tar", "gauge:1.0"},
		{ITEM("1.0"), "gauge.tar.gz", "gauge:1.0"},
		/* Neither a name nor a tag of one. */
		{ITEM("Not A Name"), "f.tar", ""}, {ITEM("1.0"), "F.tar", ""},
		{ITEM("x@sha256:" D64), "f.tar", ""},
		{"{\"digest\":\"sha256:" D64 "\"}", "f.tar", ""}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		char index[600];
		struct tar_entry entries[] = {FILE_ENTRY("oci-layout", LAYOUT),
			FILE_ENTRY("index.json", index), END_ENTRY};
		const struct th_packed_image *images;
		struct th_packed *packed = NULL;
		struct th_error err = {0};
		size_t count = 0;

		snprintf(index, sizeof(index), "{\"manifests\":[%s]}",
			cases[i].item);
		write_tar(cases[i].file, entries);
		CHECK_INT(th_packed_open(NULL, file, (struct th_cancel){0},
				  &packed, &err),
			0);
		if (!packed)
			continue;
		images = th_packed_images(packed, &count);
		CHECK_INT(count, 1);
		CHECK_TEXT(images[0].name, cases[i].name);
		CHECK_TEXT(images[0].digest, "sha256:" D64);
		th_packed_close(packed);
	}
}

static void what_is_none_is_told(void)
{
	static const struct {
		struct tar_entry entries[4];
		const char *says;
	} cases[] = {
		{{FILE_ENTRY("x", "y"), END_ENTRY}, "not an OCI image layout"},
		{{FILE_ENTRY("oci-layout", LAYOUT), END_ENTRY},
			"not an OCI image layout"},
		{{FILE_ENTRY("oci-layout", "{}"),
			 FILE_ENTRY("index.json", "{\"manifests\":[]}"),
			 END_ENTRY},
			"layout version is not 1"},
		{{FILE_ENTRY(
			  "oci-layout", "{\"imageLayoutVersion\":\"2.0.0\"}"),
			 FILE_ENTRY("index.json", "{\"manifests\":[]}"),
			 END_ENTRY},
			"layout version is not 1"},
		{{FILE_ENTRY("oci-layout", LAYOUT),
			 FILE_ENTRY("index.json", "{}"), END_ENTRY},
			"its index is empty"},
		{{FILE_ENTRY("oci-layout", LAYOUT),
			 FILE_ENTRY("index.json", "[7"), END_ENTRY},
			""},
		{{FILE_ENTRY("oci-layout", LAYOUT),
			 FILE_ENTRY("index.json", "{\"manifests\":[{}]}"),
			 END_ENTRY},
			"without a digest"},
		{{FILE_ENTRY("oci-layout", LAYOUT),
			 FILE_ENTRY("index.json",
				 "{\"manifests\":[{\"digest\":\"md5:1\"}]}"),
			 END_ENTRY},
			"without a digest"},
		/* Links are no documents. */
		{{{"oci-layout", AE_IFLNK, 0777, "/etc/passwd", 0, NULL},
			 FILE_ENTRY("index.json", "{\"manifests\":[]}"),
			 END_ENTRY},
			"not an OCI image layout"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_error err = {0};

		write_tar("f.tar", cases[i].entries);
		CHECK_INT(try_open(&err), -1);
		CHECK(strstr(err.msg, cases[i].says) != NULL);
		CHECK(err.msg[0] != '\0');
	}
}

static void blobs_are_found_and_cut(void)
{
	static const struct tar_entry entries[] = {
		FILE_ENTRY("blobs/sha256/" D64, "0123456789"),
		FILE_ENTRY("blobs/sha256/short", "x"),
		FILE_ENTRY("blobs/md5/" D64, "x"),
		FILE_ENTRY("./oci-layout", LAYOUT),
		FILE_ENTRY("./index.json", "{\"manifests\":[]}"), END_ENTRY};
	static const struct {
		uint64_t offset;
		const char *text;
	} cases[] = {{0, "0123456789"}, {4, "456789"}, {10, ""}, {99, ""}};
	struct th_packed *packed = NULL;
	struct th_error err = {0};
	struct th_buf body;

	write_tar("f.tar", entries);
	CHECK_INT(th_packed_open(
			  NULL, file, (struct th_cancel){0}, &packed, &err),
		0);
	for (size_t i = 0; packed && i < COUNT_OF(cases); i++) {
		struct th_packed_reader *reader = NULL;
		struct th_source *source;
		const void *data;
		ssize_t got;

		CHECK_INT(th_packed_blob(packed, "sha256:" D64, cases[i].offset,
				  &reader, &err),
			0);
		source = th_packed_reader_source(reader);
		th_buf_init(&body, 100);
		while ((got = source->next(source, &data, &err)) > 0)
			th_buf_add(&body, data, (size_t)got);
		CHECK_INT(got, 0);
		CHECK_TEXT(body.data, cases[i].text);
		th_buf_release(&body);
		th_packed_reader_free(reader);
	}
	th_buf_init(&body, 5);
	CHECK_INT(th_packed_document(packed, "sha256:" D64, &body, &err), -1);
	th_buf_release(&body);
	th_error_clear(&err);
	th_buf_init(&body, 50);
	CHECK_INT(th_packed_document(packed,
			  "sha256:ffffffffffffffffffffffffffffffffffffffffffff"
			  "ffffffffffffffffffff",
			  &body, &err),
		-1);
	CHECK_INT(err.code, TH_NOT_FOUND);
	th_buf_release(&body);
	th_packed_close(packed);
}

static void folders_do_not_lead_out(void)
{
	struct th_packed *packed = NULL;
	struct th_error err = {0};
	struct th_buf body;
	char path[300];

	snprintf(file, sizeof(file), "%s/layout", unit_folder);
	snprintf(path, sizeof(path), "%s/blobs/sha256", file);
	th_dir_make(path, 0755, &err);
	snprintf(path, sizeof(path), "%s/oci-layout", file);
	th_file_replace(
		AT_FDCWD, path, LAYOUT, strlen(LAYOUT), 0644, false, &err);
	snprintf(path, sizeof(path), "%s/index.json", file);
	th_file_replace(
		AT_FDCWD, path, "{\"manifests\":[]}", 16, 0644, false, &err);
	snprintf(path, sizeof(path), "%s/blobs/sha256/" D64, file);
	CHECK_INT(symlink("/etc/passwd", path), 0);
	CHECK_INT(th_packed_open(
			  NULL, file, (struct th_cancel){0}, &packed, &err),
		0);
	th_buf_init(&body, 1 << 20);
	CHECK_INT(th_packed_document(packed, "sha256:" D64, &body, &err), -1);
	CHECK_INT(body.len, 0);
	th_buf_release(&body);
	th_packed_close(packed);
}

static void paths_are_told_from_names(void)
{
	static const struct {
		const char *text;
		bool path;
	} cases[] = {{"/x", true}, {"./x", true}, {"../x", true},
		{"selwick/gauge", false}, {"gauge", false},
		{"nothing-here.tar", false}, {".tar", false},
		{"localhost:5000/x:1", false}};
	char cwd[256];

	for (size_t i = 0; i < COUNT_OF(cases); i++)
		CHECK_INT(th_packed_is_path(cases[i].text), cases[i].path);
	CHECK(getcwd(cwd, sizeof(cwd)) != NULL);
	CHECK_INT(chdir(unit_folder), 0);
	th_file_replace(AT_FDCWD, "gauge.tar", "x", 1, 0644, false, NULL);
	mkdir("folder.tar", 0755);
	CHECK(th_packed_is_path("gauge.tar"));
	CHECK(!th_packed_is_path("folder.tar"));
	CHECK_INT(chdir(cwd), 0);
}

static const CU_TestInfo tests[] = {{"names are read", names_are_read},
	{"what is none is told", what_is_none_is_told},
	{"blobs are found and cut", blobs_are_found_and_cut},
	{"folders do not lead out", folders_do_not_lead_out},
	{"paths are told from names", paths_are_told_from_names},
	CU_TEST_INFO_NULL};

const struct suite suite_packed = {"packed", tests};
