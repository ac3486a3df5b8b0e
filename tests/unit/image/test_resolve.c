#include "image/resolve.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

#include "base/file.h"
#include "base/hash.h"
#include "unit/unit.h"

#define D64 "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"

/* A layout as a folder, from which all is read. */
static char folder[128];

static void begin(void)
{
	char path[200];

	snprintf(folder, sizeof(folder), "%s/layout", unit_folder);
	snprintf(path, sizeof(path), "%s/blobs/sha256", folder);
	th_dir_make(path, 0755, NULL);
	snprintf(path, sizeof(path), "%s/oci-layout", folder);
	th_file_replace(AT_FDCWD, path, "{\"imageLayoutVersion\":\"1.0.0\"}",
		30, 0644, false, NULL);
	snprintf(path, sizeof(path), "%s/index.json", folder);
	th_file_replace(
		AT_FDCWD, path, "{\"manifests\":[]}", 16, 0644, false, NULL);
}

static void put(const char *text, char digest[TH_DIGEST_TEXT])
{
	char path[300];

	th_hash_once(text, strlen(text), digest);
	snprintf(path, sizeof(path), "%s/blobs/sha256/%s", folder, digest + 7);
	CHECK_INT(th_file_replace(AT_FDCWD, path, text, strlen(text), 0644,
			  false, NULL),
		0);
}

/* An image for a platform; layers: how many its config tells of. */
static void put_image(const char *architecture, const char *variant, int layers,
	char manifest[TH_DIGEST_TEXT])
{
	char config[TH_DIGEST_TEXT], text[1200];

	snprintf(text, sizeof(text),
		"{\"os\":\"linux\",\"architecture\":\"%s\",\"variant\":\"%s\","
		"\"rootfs\":{\"type\":\"layers\",\"diff_ids\":[%s%s]}}",
		architecture, variant, layers > 0 ? "\"sha256:" D64 "\"" : "",
		layers > 1 ? ",\"sha256:" D64 "\"" : "");
	put(text, config);
	snprintf(text, sizeof(text),
		"{\"schemaVersion\":2,\"config\":{\"mediaType\":"
		"\"" TH_MEDIA_CONFIG "\",\"digest\":\"%s\",\"size\":%zu},"
		"\"layers\":[{\"mediaType\":\"" TH_MEDIA_LAYER_GZIP
		"\",\"digest\":\"sha256:" D64 "\",\"size\":2}]}",
		config, strlen(text));
	put(text, manifest);
}

static void item_text(char text[700], const char *type, const char *digest,
	const char *platform)
{
	char path[300];
	struct stat st = {.st_size = 1};

	snprintf(path, sizeof(path), "%s/blobs/sha256/%s", folder, digest + 7);
	if (stat(path, &st))
		st.st_size = 1;
	snprintf(text, 700,
		"{\"mediaType\":\"%s\",\"digest\":\"%s\",\"size\":%d%s%s%s}",
		type, digest, (int)st.st_size,
		*platform ? ",\"platform\":{" : "", platform,
		*platform ? "}" : "");
}

static void put_index(const char *items, char digest[TH_DIGEST_TEXT])
{
	char text[4000];

	snprintf(text, sizeof(text), "{\"schemaVersion\":2,\"manifests\":[%s]}",
		items);
	put(text, digest);
}

static int resolve(const char *digest, const char *platform,
	struct th_resolved *resolved, struct th_error *err)
{
	struct th_platform wanted = {.os = ""};
	struct th_packed *packed = NULL;
	struct th_origin *origin = NULL;
	struct th_reader *reader = NULL;
	int rc = -1;

	memset(resolved, 0, sizeof(*resolved));
	if (*platform)
		CHECK_INT(th_platform_parse(platform, &wanted, err), 0);
	CHECK_INT(th_packed_open(
			  NULL, folder, (struct th_cancel){0}, &packed, err),
		0);
	origin = th_origin_packed(packed, err);
	reader = th_reader_new(origin, err);
	if (reader)
		rc = th_resolve(reader, digest, &wanted, resolved, err);
	th_reader_free(reader);
	th_origin_free(origin);
	th_packed_close(packed);
	return rc;
}

static void the_platform_chooses(void)
{
	static const struct {
		const char *platform;
		int chosen; /* -1: none */
	} cases[] = {{"linux/arm/v7", 1}, {"linux/arm/v6", 0},
		{"linux/arm64", 2}, {"linux/arm64/v8", 2}, {"linux/s390x", -1},
		{"plan9/arm64", -1}, {"linux/arm/v5", -1}};
	static const char *const made[][2] = {
		{"arm", "v6"}, {"arm", "v7"}, {"arm64", "v8"}};
	char digests[3][TH_DIGEST_TEXT], index[TH_DIGEST_TEXT];
	char items[2000] = "";

	begin();
	for (size_t i = 0; i < COUNT_OF(made); i++) {
		char item[700], platform[120];

		put_image(made[i][0], made[i][1], 1, digests[i]);
		snprintf(platform, sizeof(platform),
			"\"os\":\"linux\",\"architecture\":\"%s\","
			"\"variant\":\"%s\"",
			made[i][0], made[i][1]);
		item_text(item, TH_MEDIA_MANIFEST, digests[i], platform);
		snprintf(items + strlen(items), sizeof(items) - strlen(items),
			"%s%s", i ? "," : "", item);
	}
	put_index(items, index);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_resolved resolved;
		struct th_error err = {0};
		int rc = resolve(index, cases[i].platform, &resolved, &err);

		CHECK_INT(rc, cases[i].chosen < 0 ? -1 : 0);
		CHECK_INT(resolved.offer_count, 3);
		CHECK(resolved.is_index);
		CHECK_TEXT(resolved.first, index);
		if (rc == 0) {
			CHECK_TEXT(resolved.digest, digests[cases[i].chosen]);
		} else {
			CHECK_INT(err.code, TH_NOT_FOUND);
			CHECK(strstr(err.msg,
				      "linux/arm/v6, linux/arm/v7, "
				      "linux/arm64/v8") != NULL);
		}
		th_resolved_release(&resolved);
	}
}

static void nesting_has_an_end(void)
{
	char digest[TH_DIGEST_TEXT], item[700];
	struct th_resolved resolved;

	begin();
	put_image("arm", "v7", 1, digest);
	item_text(item, TH_MEDIA_MANIFEST, digest,
		"\"os\":\"linux\",\"architecture\":\"arm\",\"variant\":\"v7\"");
	for (int depth = 1; depth <= 8; depth++) {
		struct th_error err = {0};
		int rc;

		put_index(item, digest);
		rc = resolve(digest, "linux/arm/v7", &resolved, &err);
		CHECK_INT(rc, depth <= 5 ? 0 : -1);
		if (rc)
			CHECK(strstr(err.msg, "nested too deeply") != NULL);
		th_resolved_release(&resolved);
		item_text(item, TH_MEDIA_INDEX, digest, "");
	}
}

static void breadth_has_an_end(void)
{
	char inner[TH_DIGEST_TEXT], index[TH_DIGEST_TEXT];
	struct th_resolved resolved;
	struct th_error err = {0};
	struct th_buf text;

	begin();
	put_index("", inner);
	th_buf_init(&text, 1 << 20);
	th_buf_adds(&text, "{\"schemaVersion\":2,\"manifests\":[");
	for (int i = 0; i < 100; i++) {
		char item[700];

		item_text(item, TH_MEDIA_INDEX, inner, "");
		th_buf_addf(&text, "%s%s", i ? "," : "", item);
	}
	th_buf_adds(&text, "]}");
	put(text.data, index);
	th_buf_release(&text);
	CHECK_INT(resolve(index, "", &resolved, &err), -1);
	CHECK(strstr(err.msg, "more than 64 others") != NULL);
	th_resolved_release(&resolved);
}

static void one_without_an_index_says_itself(void)
{
	char digest[TH_DIGEST_TEXT];
	struct th_resolved resolved;
	struct th_error err = {0};

	begin();
	put_image("arm", "v7", 1, digest);
	CHECK_INT(resolve(digest, "linux/arm/v7", &resolved, &err), 0);
	CHECK(!resolved.is_index);
	CHECK_INT(resolved.offer_count, 0);
	th_resolved_release(&resolved);
	CHECK_INT(resolve(digest, "linux/mips", &resolved, &err), -1);
	CHECK(strstr(err.msg, "is for linux/arm/v7, not for linux/mips") !=
		NULL);
	/* What it is was found out all the same. */
	CHECK_INT(resolved.config.diff_ids.count, 1);
	th_resolved_release(&resolved);
}

static void contradictions_are_told(void)
{
	char digest[TH_DIGEST_TEXT], item[700], path[300];
	struct th_resolved resolved;
	struct th_error err = {0};

	begin();
	put_image("arm", "v7", 2, digest);
	CHECK_INT(resolve(digest, "linux/arm/v7", &resolved, &err), -1);
	CHECK(strstr(err.msg, "manifest has 1 layers, but its config has 2") !=
		NULL);
	th_resolved_release(&resolved);
	/* A document that is not what it is called. */
	th_error_clear(&err);
	put_image("arm", "v7", 1, digest);
	snprintf(path, sizeof(path), "%s/blobs/sha256/%s", folder, digest + 7);
	th_file_replace(AT_FDCWD, path, "{}", 2, 0644, false, NULL);
	CHECK_INT(resolve(digest, "linux/arm/v7", &resolved, &err), -1);
	CHECK(strstr(err.msg, "damaged") != NULL);
	th_resolved_release(&resolved);
	/* An index that leads to nothing. */
	th_error_clear(&err);
	item_text(item, TH_MEDIA_MANIFEST, "sha256:" D64,
		"\"os\":\"linux\",\"architecture\":\"arm\"");
	put_index(item, digest);
	CHECK_INT(resolve(digest, "linux/arm", &resolved, &err), -1);
	CHECK(strstr(err.msg, "does not contain the blob") != NULL);
	th_resolved_release(&resolved);
}

static void platforms_are_read_and_written(void)
{
	static const char *const good[] = {
		"linux/amd64", "linux/arm/v7", "freebsd/arm64/v8"};
	static const char *const bad[] = {"", "linux", "linux/", "/amd64",
		"linux/arm/v7/x", "Linux/amd64", "linux/am d64",
		"linux/0123456789012345678901234567890123456789"};

	for (size_t i = 0; i < COUNT_OF(good); i++) {
		struct th_platform platform;
		char text[TH_PLATFORM_TEXT];

		CHECK_INT(th_platform_parse(good[i], &platform, NULL), 0);
		th_platform_format(&platform, text);
		CHECK_TEXT(text, good[i]);
	}
	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_platform platform;
		struct th_error err = {0};

		CHECK_INT(th_platform_parse(bad[i], &platform, &err), -1);
		CHECK_INT(err.code, TH_USAGE);
		CHECK(err.hint[0] != '\0');
	}
}

static const CU_TestInfo tests[] = {
	{"the platform chooses", the_platform_chooses},
	{"nesting has an end", nesting_has_an_end},
	{"breadth has an end", breadth_has_an_end},
	{"one without an index says itself", one_without_an_index_says_itself},
	{"contradictions are told", contradictions_are_told},
	{"platforms are read and written", platforms_are_read_and_written},
	CU_TEST_INFO_NULL};

const struct suite suite_resolve = {"resolve", tests};
