#include "oci/manifest.h"

#include <stdio.h>
#include <string.h>

#include "unit/unit.h"

#define D64 "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
#define DESC(type, size)                                                       \
	"{\"mediaType\":\"" type "\",\"digest\":\"sha256:" D64                 \
	"\",\"size\":" size "}"
#define CONFIG "\"config\":" DESC(TH_MEDIA_CONFIG, "10")
#define LAYER DESC(TH_MEDIA_LAYER_GZIP, "20")

static void a_manifest_is_read(void)
{
	static const char text[] =
		"{\"schemaVersion\":2," CONFIG ",\"layers\":[" LAYER
		"," DESC("application/vnd.oci.image.layer.v1.tar+zstd",
			"30") "," DESC("application/vnd.oci.image.layer.v1.tar",
			"40") "]}";
	struct th_manifest manifest;
	struct th_error err = {0};

	CHECK_INT(th_manifest_parse(text, strlen(text), &manifest, &err), 0);
	CHECK_INT(manifest.layer_count, 3);
	CHECK_INT(manifest.config.size_bytes, 10);
	CHECK_INT(manifest.layers[0].compression, TH_GZIP);
	CHECK_INT(manifest.layers[1].compression, TH_ZSTD);
	CHECK_INT(manifest.layers[2].compression, TH_PLAIN);
	CHECK_INT(manifest.layers[2].size_bytes, 40);
	th_manifest_release(&manifest);
}

static void wrong_manifests_are_refused(void)
{
	static const struct {
		const char *text, *word;
	} bad[] = {{"{}", "schema version"},
		{"{\"schemaVersion\":1," CONFIG ",\"layers\":[]}",
			"schema version 1"},
		{"{\"schemaVersion\":2,\"layers\":[]}",
			"does not name a config"},
		{"{\"schemaVersion\":2," CONFIG "}", "no layers"},
		{"{\"schemaVersion\":2," CONFIG ",\"layers\":[7]}",
			"layer 1 of the manifest is not an object"},
		{"{\"schemaVersion\":2," CONFIG ",\"layers\":[{}]}",
			"no valid digest"},
		{"{\"schemaVersion\":2," CONFIG
		 ",\"layers\":[" DESC("text/plain", "1") "]}",
			"not a layer"},
		{"{\"schemaVersion\":2," CONFIG
		 ",\"layers\":[" DESC(TH_MEDIA_LAYER_GZIP, "-1") "]}",
			"no valid size"},
		{"{\"schemaVersion\":2,\"config\":" DESC(
			 "application/x-chart", "1") ",\"layers\":[]}",
			"not a container image"}};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_manifest manifest;
		struct th_error err = {0};

		CHECK_INT(th_manifest_parse(bad[i].text, strlen(bad[i].text),
				  &manifest, &err),
			-1);
		CHECK(strstr(err.msg, bad[i].word) != NULL);
	}
}

static void kinds_are_told_apart(void)
{
	static const struct {
		const char *text, *type;
		int rc;
		enum th_document kind;
	} cases[] = {{"{\"mediaType\":\"" TH_MEDIA_INDEX "\"}", NULL, 0,
			     TH_DOC_INDEX},
		{"{}", TH_MEDIA_MANIFEST, 0, TH_DOC_MANIFEST},
		{"{\"manifests\":[]}", "application/json", 0, TH_DOC_INDEX},
		{"{\"layers\":[]}", NULL, 0, TH_DOC_MANIFEST},
		{"{}", "text/html", -1, TH_DOC_INDEX},
		{"not JSON", TH_MEDIA_INDEX, -1, TH_DOC_INDEX}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		enum th_document kind = TH_DOC_MANIFEST;

		CHECK_INT(th_document_kind(cases[i].text, strlen(cases[i].text),
				  cases[i].type, &kind, NULL),
			cases[i].rc);
		if (cases[i].rc == 0)
			CHECK_INT(kind, cases[i].kind);
	}
}

static void platforms_fit_or_not(void)
{
	static const struct {
		struct th_platform have, wanted;
		int fits;
	} cases[] = {
		{{"linux", "arm", "v7", ""}, {"linux", "arm", "v7", ""}, 40},
		{{"linux", "amd64", "", ""}, {"linux", "amd64", "", ""}, 40},
		{{"linux", "arm64", "", ""}, {"linux", "arm64", "v8", ""}, 30},
		{{"linux", "arm64", "v8", ""}, {"linux", "arm64", "", ""}, 1},
		/* A processor runs what is made for lower ones. */
		{{"linux", "arm", "v6", ""}, {"linux", "arm", "v7", ""}, 16},
		{{"linux", "arm", "v8", ""}, {"linux", "arm", "v7", ""}, 0},
#ifdef __x86_64__
		{{"linux", "amd64", "v1", ""}, {"linux", "amd64", "", ""}, 11},
		{{"linux", "amd64", "v9", ""}, {"linux", "amd64", "", ""}, 0},
#endif
		/* Strange ones, and what is not said. */
		{{"linux", "arm", "odd", ""}, {"linux", "arm", "v7", ""}, 0},
		{{"linux", "amd64", "odd", ""}, {"linux", "amd64", "", ""}, 1},
		{{"", "amd64", "", ""}, {"linux", "amd64", "", ""}, 40},
		{{"linux", "", "", ""}, {"linux", "amd64", "", ""}, 40},
		{{"linux", "amd64", "", "x"}, {"linux", "amd64", "", ""}, 0},
		{{"linux", "arm", "v7", ""}, {"linux", "s390x", "", ""}, 0},
		{{"plan", "amd64", "", ""}, {"linux", "amd64", "", ""}, 0},
	};

	for (size_t i = 0; i < COUNT_OF(cases); i++)
		CHECK_INT(th_platform_fit(&cases[i].have, &cases[i].wanted),
			cases[i].fits);
}

static void media_types_are_known(void)
{
	CHECK(th_media_is_manifest(TH_MEDIA_MANIFEST));
	CHECK(!th_media_is_manifest(TH_MEDIA_INDEX));
	CHECK(th_media_is_index(TH_MEDIA_INDEX));
	CHECK(!th_media_is_index("text/plain"));
}

static const CU_TestInfo tests[] = {{"a manifest is read", a_manifest_is_read},
	{"wrong manifests are refused", wrong_manifests_are_refused},
	{"kinds are told apart", kinds_are_told_apart},
	{"platforms fit or not", platforms_fit_or_not},
	{"media types are known", media_types_are_known}, CU_TEST_INFO_NULL};

const struct suite suite_manifest = {"manifest", tests};
