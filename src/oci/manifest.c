#include "oci/manifest.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/utsname.h>

#include "base/architecture.h"
#include "base/hash.h"
#include "base/json.h"
#include "oci/platform_features.h"

/* The OCI types and those that the specification's media-types page lists as
 * compatible with them. */
static const char *const manifest_types[] = {TH_MEDIA_MANIFEST,
	"application/vnd.docker.distribution.manifest.v2+json", NULL};
static const char *const index_types[] = {TH_MEDIA_INDEX,
	"application/vnd.docker.distribution.manifest.list.v2+json", NULL};
static const char *const config_types[] = {TH_MEDIA_CONFIG,
	"application/vnd.docker.container.image.v1+json", NULL};
static const struct {
	const char *type;
	enum th_compression compression;
} layer_types[] = {
	{TH_MEDIA_LAYER_GZIP, TH_GZIP},
	{"application/vnd.oci.image.layer.v1.tar", TH_PLAIN},
	{"application/vnd.oci.image.layer.v1.tar+zstd", TH_ZSTD},
	{"application/vnd.oci.image.layer.nondistributable.v1.tar", TH_PLAIN},
	{"application/vnd.oci.image.layer.nondistributable.v1.tar+gzip",
		TH_GZIP},
	{"application/vnd.oci.image.layer.nondistributable.v1.tar+zstd",
		TH_ZSTD},
	{"application/vnd.docker.image.rootfs.diff.tar.gzip", TH_GZIP},
	{"application/vnd.docker.image.rootfs.diff.tar", TH_PLAIN},
	{"application/vnd.docker.image.rootfs.foreign.diff.tar.gzip", TH_GZIP},
};

static bool is_one_of(const char *type, const char *const *types)
{
	for (; *types; types++) {
		if (strcmp(type, *types) == 0)
			return true;
	}
	return false;
}

bool th_media_is_manifest(const char *media_type)
{
	return is_one_of(media_type, manifest_types);
}

bool th_media_is_index(const char *media_type)
{
	return is_one_of(media_type, index_types);
}

static int copy_text(char *to, size_t size, const char *from, const char *key,
	const char *where, struct th_error *err)
{
	size_t len = strlen(from);

	if (len >= size)
		return th_fail(
			err, TH_FAILED, "\"%s\" in %s is too long", key, where);
	memcpy(to, from, len + 1);
	return 0;
}

static int read_text(const json_t *object, const char *key, const char *where,
	char *to, size_t size, struct th_error *err)
{
	const char *text;
	int rc = th_json_string(object, key, where, &text, err);

	if (rc == 1 && copy_text(to, size, text, key, where, err))
		return -1;
	return rc;
}

/* The features of the operating system that an image has to have (os.features;
 * os.version is for others to use: of Linux nothing is known by it). */
int th_platform_features(const json_t *object, const char *where,
	struct th_platform *platform, struct th_error *err)
{
	json_t *list;
	int rc = th_json_array(object, "os.features", where, &list, err);
	const char *feature;

	if (rc != 1 || !json_array_size(list))
		return rc < 0 ? -1 : 0;
	feature = json_string_value(json_array_get(list, 0));
	if (!feature)
		return th_fail(err, TH_FAILED,
			"\"os.features\" in %s is not a list of texts", where);
	snprintf(platform->feature, sizeof(platform->feature), "%s", feature);
	return 0;
}

static int read_platform(const json_t *object, const char *where,
	struct th_platform *platform, struct th_error *err)
{
	json_t *member;
	int rc = th_json_object(object, "platform", where, &member, err);

	if (rc != 1)
		return rc;
	if (read_text(member, "os", where, platform->os, sizeof(platform->os),
		    err) < 0 ||
		read_text(member, "architecture", where, platform->architecture,
			sizeof(platform->architecture), err) < 0 ||
		read_text(member, "variant", where, platform->variant,
			sizeof(platform->variant), err) < 0 ||
		th_platform_features(member, where, platform, err))
		return -1;
	return 1;
}

/* "Values MUST conform to the Base 64 encoding", "MUST be identical to the
 * referenced content" (descriptor.md, "Embedded Content"). */
static int read_data(const json_t *object, const char *where,
	struct th_descriptor *desc, struct th_error *err)
{
	char digest[TH_DIGEST_TEXT];
	const char *text;
	int rc = th_json_string(object, "data", where, &text, err);

	th_buf_init(&desc->data, TH_MANIFEST_MAX);
	if (rc != 1)
		return rc;
	if (!th_buf_unbase64(&desc->data, text, strlen(text)))
		return th_fail(err, TH_FAILED,
			"the data in %s is not in base 64", where);
	if (th_hash_like(desc->digest, desc->data.data, desc->data.len, digest))
		return th_fail_memory(err);
	if (desc->data.len == desc->size_bytes &&
		strcmp(digest, desc->digest) == 0)
		return 1;
	return th_fail(err, TH_FAILED,
		"the data in %s does not have the digest and size that it says",
		where);
}

static void release_descriptor(struct th_descriptor *desc)
{
	th_buf_release(&desc->data);
	th_strings_release(&desc->urls);
}

static int read_descriptor(const json_t *object, const char *where,
	struct th_descriptor *desc, struct th_error *err)
{
	int64_t size = -1;

	memset(desc, 0, sizeof(*desc));
	if (!json_is_object(object))
		return th_fail(err, TH_FAILED, "%s is not an object", where);
	if (read_text(object, "mediaType", where, desc->media_type,
		    sizeof(desc->media_type), err) < 0 ||
		read_text(object, "digest", where, desc->digest,
			sizeof(desc->digest), err) < 0 ||
		th_json_int(object, "size", where, &size, err) < 0 ||
		read_platform(object, where, &desc->platform, err) < 0)
		return -1;
	if (!th_digest_valid(desc->digest))
		return th_fail(err, TH_FAILED,
			"%s has no valid digest (sha256 or sha512)", where);
	if (size < 0)
		return th_fail(err, TH_FAILED, "%s has no valid size", where);
	desc->size_bytes = (uint64_t)size;
	if (th_json_strings(object, "urls", where, &desc->urls, err) < 0 ||
		read_data(object, where, desc, err) < 0) {
		release_descriptor(desc);
		return -1;
	}
	return 0;
}

static int check_schema(
	const json_t *doc, const char *where, struct th_error *err)
{
	int64_t version = 0;

	if (th_json_int(doc, "schemaVersion", where, &version, err) < 0)
		return -1;
	if (version != 2)
		return th_fail(err, TH_FAILED,
			"%s has schema version %" PRId64
			", only 2 is supported",
			where, version);
	return 0;
}

int th_document_kind(const char *data, size_t len, const char *media_type,
	enum th_document *kind, struct th_error *err)
{
	const char *own = NULL;
	json_t *doc = NULL;
	int rc = -1;

	if (th_json_parse(data, len, "the manifest", &doc, err))
		return -1;
	if (th_json_string(doc, "mediaType", "the manifest", &own, err) < 0)
		goto out;
	if (!own)
		own = media_type;
	if (own && is_one_of(own, manifest_types))
		*kind = TH_DOC_MANIFEST;
	else if (own && is_one_of(own, index_types))
		*kind = TH_DOC_INDEX;
	else if (json_object_get(doc, "manifests"))
		*kind = TH_DOC_INDEX;
	else if (json_object_get(doc, "layers"))
		*kind = TH_DOC_MANIFEST;
	else {
		th_fail(err, TH_FAILED,
			"the document is neither an image manifest nor an "
			"index%s%.100s",
			own ? ", its type is " : "", own ? own : "");
		goto out;
	}
	rc = 0;
out:
	json_decref(doc);
	return rc;
}

int th_document_type(
	const char *data, size_t len, char type[128], struct th_error *err)
{
	const char *own = NULL;
	json_t *doc = NULL;
	int rc;

	if (th_json_parse(data, len, "the manifest", &doc, err))
		return -1;
	rc = th_json_string(doc, "mediaType", "the manifest", &own, err);
	snprintf(type, 128, "%s", rc == 1 ? own : TH_MEDIA_MANIFEST);
	json_decref(doc);
	return rc < 0 ? -1 : 0;
}

static int set_compression(
	struct th_descriptor *layer, const char *where, struct th_error *err)
{
	for (size_t i = 0; i < sizeof(layer_types) / sizeof(*layer_types);
		i++) {
		if (strcmp(layer->media_type, layer_types[i].type) == 0) {
			layer->compression = layer_types[i].compression;
			return 0;
		}
	}
	return th_fail(err, TH_FAILED,
		"%s has the type \"%s\", which is not a layer of files", where,
		layer->media_type);
}

static int read_layers(
	const json_t *doc, struct th_manifest *manifest, struct th_error *err)
{
	json_t *array, *item;
	char where[64];
	size_t i;

	if (th_json_array(doc, "layers", "the manifest", &array, err) != 1)
		return th_fail(err, TH_FAILED, "the manifest has no layers");
	if (json_array_size(array) > TH_LAYERS_MAX)
		return th_fail(err, TH_FAILED,
			"the manifest has %zu layers, at most %d are supported",
			json_array_size(array), TH_LAYERS_MAX);
	manifest->layers =
		calloc(json_array_size(array) + 1, sizeof(*manifest->layers));
	if (!manifest->layers)
		return th_fail_memory(err);
	json_array_foreach(array, i, item)
	{
		struct th_descriptor *layer = &manifest->layers[i];

		snprintf(where, sizeof(where), "layer %zu of the manifest",
			i + 1);
		if (read_descriptor(item, where, layer, err))
			return -1;
		manifest->layer_count++;
		if (set_compression(layer, where, err))
			return -1;
	}
	return 0;
}

int th_manifest_parse(const char *data, size_t len,
	struct th_manifest *manifest, struct th_error *err)
{
	json_t *doc = NULL, *config;

	memset(manifest, 0, sizeof(*manifest));
	if (th_json_parse(data, len, "the manifest", &doc, err))
		return -1;
	if (check_schema(doc, "the manifest", err))
		goto fail;
	if (th_json_object(doc, "config", "the manifest", &config, err) != 1) {
		th_fail(err, TH_FAILED, "the manifest does not name a config");
		goto fail;
	}
	if (read_descriptor(
		    config, "the config's descriptor", &manifest->config, err))
		goto fail;
	if (!is_one_of(manifest->config.media_type, config_types)) {
		th_fail(err, TH_FAILED,
			"this is not a container image: its config has the "
			"type \"%s\"",
			manifest->config.media_type);
		goto fail;
	}
	if (read_layers(doc, manifest, err))
		goto fail;
	json_decref(doc);
	return 0;
fail:
	json_decref(doc);
	th_manifest_release(manifest);
	return -1;
}

void th_manifest_release(struct th_manifest *manifest)
{
	release_descriptor(&manifest->config);
	for (size_t i = 0; i < manifest->layer_count; i++)
		release_descriptor(&manifest->layers[i]);
	free(manifest->layers);
	memset(manifest, 0, sizeof(*manifest));
}

int th_index_parse(const char *data, size_t len, struct th_index *index,
	struct th_error *err)
{
	json_t *doc = NULL, *array, *item;
	size_t i;

	memset(index, 0, sizeof(*index));
	if (th_json_parse(data, len, "the index", &doc, err))
		return -1;
	if (check_schema(doc, "the index", err))
		goto fail;
	if (th_json_array(doc, "manifests", "the index", &array, err) != 1) {
		th_fail(err, TH_FAILED, "the index lists no manifests");
		goto fail;
	}
	index->items =
		calloc(json_array_size(array) + 1, sizeof(*index->items));
	if (!index->items) {
		th_fail_memory(err);
		goto fail;
	}
	json_array_foreach(array, i, item)
	{
		char where[64];

		snprintf(where, sizeof(where), "item %zu of the index", i + 1);
		if (read_descriptor(item, where, &index->items[i], err))
			goto fail;
		index->count++;
	}
	json_decref(doc);
	return 0;
fail:
	json_decref(doc);
	th_index_release(index);
	return -1;
}

void th_index_release(struct th_index *index)
{
	for (size_t i = 0; i < index->count; i++)
		release_descriptor(&index->items[i]);
	free(index->items);
	memset(index, 0, sizeof(*index));
}

/* What the kernel calls a machine, and what the specification does; the variant
 * of this host, and whether it has to be said. */
static const struct machine {
	const char *name, *architecture, *variant;
	bool said;
} machines[] = {{"x86_64", "amd64", "", false},
	{"aarch64", "arm64", "v8", false}, {"armv7l", "arm", "v7", true},
	{"armv6l", "arm", "v6", true}, {"i686", "386", "", false},
	{"ppc64le", "ppc64le", "", false}, {"s390x", "s390x", "", false},
	{"riscv64", "riscv64", "", false},
	{"loongarch64", "loong64", "", false}};

#define MACHINES (sizeof(machines) / sizeof(*machines))

static void set_platform(struct th_platform *platform, const char *architecture,
	const char *variant)
{
	memset(platform, 0, sizeof(*platform));
	snprintf(platform->os, sizeof(platform->os), "linux");
	snprintf(platform->architecture, sizeof(platform->architecture),
		"%.31s", architecture);
	snprintf(platform->variant, sizeof(platform->variant), "%s", variant);
}

void th_platform_host(struct th_platform *platform)
{
	struct utsname host;

	set_platform(platform, "", "");
	if (uname(&host))
		return;
	set_platform(platform, host.machine, "");
	for (size_t i = 0; i < MACHINES; i++) {
		if (strcmp(host.machine, machines[i].name) == 0)
			set_platform(platform, machines[i].architecture,
				machines[i].variant);
	}
}

bool th_platform_meant(const char *text, struct th_platform *platform)
{
	const char *name =
		strncasecmp(text, "linux/", 6) == 0 ? text + 6 : text;

	for (size_t i = 0; i < MACHINES; i++) {
		const struct machine *one = &machines[i];
		const char *variant = one->said ? one->variant : "";
		char whole[48], joined[48];

		snprintf(whole, sizeof(whole), "%s/%s", one->architecture,
			one->variant);
		snprintf(joined, sizeof(joined), "%s%s", one->architecture,
			one->variant);
		if (strcasecmp(name, one->name) != 0 &&
			strcasecmp(name, one->architecture) != 0 &&
			strcasecmp(name, whole) != 0 &&
			strcasecmp(name, joined) != 0)
			continue;
		set_platform(platform, one->architecture, variant);
		return true;
	}
	return false;
}

/* What is not said is no obstacle. */
static bool is_same(const char *have, const char *wanted)
{
	return !have[0] || strcmp(have, wanted) == 0;
}

/* 0 for a variant that is not of the kind "v7". */
static int level_of(const char *variant)
{
	return variant[0] == 'v' && variant[1] >= '1' && variant[1] <= '9' &&
			!variant[2]
		? variant[1] - '0'
		: 0;
}

/* Variants of one architecture: a processor runs what is made for its own, for
 * lower levels, and what does not say. */
static int fit_variant(const struct th_platform *have, const char *wanted)
{
	int own = level_of(have->variant), most = level_of(wanted);

	if (strcmp(have->variant, wanted) == 0)
		return 40;
	if (!have->variant[0])
		return 30;
	if (!wanted[0] && strcmp(have->architecture, "amd64") == 0)
		most = th_architecture_level();
	if (own && most)
		return own <= most ? 10 + own : 0;
	/* One that nobody knows is better than nothing, but where a certain one
	 * was asked for. */
	return wanted[0] ? 0 : 1;
}

int th_platform_fit(
	const struct th_platform *have, const struct th_platform *wanted)
{
	if (!is_same(have->os, wanted->os) || have->feature[0] ||
		!is_same(have->architecture, wanted->architecture))
		return 0;
	return fit_variant(have, wanted->variant);
}
