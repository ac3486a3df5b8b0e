#include "e2e/layouts.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "base/hash.h"
#include "e2e/harness.h"
#include "oci/manifest.h"

#define REF_NAME "org.opencontainers.image.ref.name"

static json_t *read_index(const char *folder)
{
	char path[400];

	snprintf(path, sizeof(path), "%s/%s/index.json", world_folder, folder);
	return json_load_file(path, 0, NULL);
}

static void write_index(const char *folder, json_t *index)
{
	char path[400];

	snprintf(path, sizeof(path), "%s/%s/index.json", world_folder, folder);
	CHECK_INT(json_dump_file(index, path, 0), 0);
	json_decref(index);
}

const char *layout_digest(const char *folder, const char *name)
{
	static char digest[TH_DIGEST_TEXT];
	json_t *index = read_index(folder), *item;
	size_t i;

	digest[0] = '\0';
	json_array_foreach(json_object_get(index, "manifests"), i, item)
	{
		const char *own = json_string_value(json_object_get(
			json_object_get(item, "annotations"), REF_NAME));

		if (own && strcmp(own, name) == 0)
			snprintf(digest, sizeof(digest), "%s",
				json_string_value(
					json_object_get(item, "digest")));
	}
	json_decref(index);
	CHECK(digest[0] != '\0');
	return digest;
}

const char *layout_layer(const char *folder, const char *name, size_t number)
{
	static char digest[TH_DIGEST_TEXT];
	json_t *manifest = layout_get(folder, layout_digest(folder, name));

	snprintf(digest, sizeof(digest), "%s",
		json_string_value(json_object_get(
			json_array_get(
				json_object_get(manifest, "layers"), number),
			"digest")));
	json_decref(manifest);
	return digest;
}

void layout_name(const char *folder, const char *digest, const char *type,
	size_t size, const char *name)
{
	json_t *index = read_index(folder);

	json_array_append_new(json_object_get(index, "manifests"),
		json_pack("{s:s s:s s:I s:{s:s}}", "mediaType", type, "digest",
			digest, "size", (json_int_t)size, "annotations",
			REF_NAME, name));
	write_index(folder, index);
}

const char *layout_put(const char *folder, const json_t *doc, size_t *size)
{
	static char digest[TH_DIGEST_TEXT];
	char *text = json_dumps(doc, JSON_COMPACT), path[500];
	struct th_error err = {0};

	*size = strlen(text);
	th_hash_once(text, *size, digest);
	snprintf(path, sizeof(path), "%s/%s/blobs/sha256/%s", world_folder,
		folder, digest + 7);
	CHECK_INT(
		th_file_replace(AT_FDCWD, path, text, *size, 0644, false, &err),
		0);
	free(text);
	return digest;
}

json_t *layout_get(const char *folder, const char *digest)
{
	char path[500];

	snprintf(path, sizeof(path), "%s/%s/blobs/sha256/%s", world_folder,
		folder, digest + 7);
	return json_load_file(path, 0, NULL);
}

/* Writes the changed image; gives its manifest's descriptor. */
static json_t *put_for(const char *folder, const char *from,
	const char *architecture, const char *variant)
{
	json_t *manifest = layout_get(folder, layout_digest(folder, from));
	json_t *descriptor = json_object_get(manifest, "config");
	json_t *config = layout_get(folder,
		json_string_value(json_object_get(descriptor, "digest")));
	const char *digest;
	size_t size;

	json_object_set_new(config, "architecture", json_string(architecture));
	json_object_set_new(config, "variant", json_string(variant));
	digest = layout_put(folder, config, &size);
	json_object_set_new(descriptor, "digest", json_string(digest));
	json_object_set_new(descriptor, "size", json_integer((json_int_t)size));
	digest = layout_put(folder, manifest, &size);
	descriptor = json_pack("{s:s s:s s:I s:{s:s s:s s:s}}", "mediaType",
		TH_MEDIA_MANIFEST, "digest", digest, "size", (json_int_t)size,
		"platform", "os", "linux", "architecture", architecture,
		"variant", variant);
	json_decref(config);
	json_decref(manifest);
	return descriptor;
}

void layout_add_platform(const char *folder, const char *from, const char *name,
	const char *architecture, const char *variant)
{
	json_t *item = put_for(folder, from, architecture, variant);

	layout_name(folder, json_string_value(json_object_get(item, "digest")),
		TH_MEDIA_MANIFEST,
		(size_t)json_integer_value(json_object_get(item, "size")),
		name);
	json_decref(item);
}

void layout_add_index(
	const char *folder, const char *from, const char *name, bool nested)
{
	char own[TH_DIGEST_TEXT];
	struct th_platform host;
	json_t *index, *manifest;
	const char *digest;
	size_t size;

	th_platform_host(&host);
	snprintf(own, sizeof(own), "%s", layout_digest(folder, from));
	manifest = layout_get(folder, own);
	digest = layout_put(folder, manifest, &size);
	CHECK_TEXT(digest, own);
	json_decref(manifest);
	index = json_pack("{s:i s:s s:[o {s:s s:s s:I s:{s:s s:s}}"
			  " {s:s s:s s:I s:{s:s s:s}}]}",
		"schemaVersion", 2, "mediaType", TH_MEDIA_INDEX, "manifests",
		put_for(folder, from, "arm", "v7"), "mediaType",
		TH_MEDIA_MANIFEST, "digest", own, "size", (json_int_t)size,
		"platform", "os", host.os, "architecture", host.architecture,
		"mediaType", TH_MEDIA_MANIFEST, "digest", own, "size",
		(json_int_t)size, "platform", "os", "unknown", "architecture",
		"unknown");
	digest = layout_put(folder, index, &size);
	json_decref(index);
	if (nested) {
		index = json_pack("{s:i s:s s:[{s:s s:s s:I}]}",
			"schemaVersion", 2, "mediaType", TH_MEDIA_INDEX,
			"manifests", "mediaType", TH_MEDIA_INDEX, "digest",
			digest, "size", (json_int_t)size);
		digest = layout_put(folder, index, &size);
		json_decref(index);
	}
	layout_name(folder, digest, TH_MEDIA_INDEX, size, name);
}

void layout_tar(const char *file, const struct tar_entry *entries)
{
	struct th_error err = {0};
	struct th_buf tar;
	char path[400];

	th_buf_init(&tar, 64 << 20);
	tar_make(&tar, entries);
	snprintf(path, sizeof(path), "%s/%s", world_folder, file);
	CHECK_INT(th_file_replace(
			  AT_FDCWD, path, tar.data, tar.len, 0644, false, &err),
		0);
	th_buf_release(&tar);
}

static bool ends_in(const char *text, const char *end)
{
	size_t len = strlen(text);

	return len > strlen(end) && strcmp(text + len - strlen(end), end) == 0;
}

/* Runs a line that prints a digest; the digits. */
static void digest_of(char digest[TH_DIGEST_TEXT], const char *line)
{
	struct result *result = other("sh -c '%s | sha256sum'", line);

	snprintf(digest, TH_DIGEST_TEXT, "sha256:%.64s", result->out);
}

static json_t *put_layer(const char *folder, const char *file, json_t *ids)
{
	char digest[TH_DIGEST_TEXT], line[300];
	const char *type = "application/vnd.oci.image.layer.v1.tar";
	const char *reader = "cat", *suffix = "";

	if (ends_in(file, ".gz")) {
		reader = "zcat";
		suffix = "+gzip";
	} else if (ends_in(file, ".zst")) {
		reader = "zstdcat";
		suffix = "+zstd";
	}
	snprintf(line, sizeof(line), "%s %s", reader, file);
	digest_of(digest, line);
	json_array_append_new(ids, json_string(digest));
	snprintf(line, sizeof(line), "cat %s", file);
	digest_of(digest, line);
	CODE(other("cp %s %s/blobs/sha256/%s", file, folder, digest + 7), 0);
	return json_pack("{s:s+ s:s s:I}", "mediaType", type, suffix, "digest",
		digest, "size",
		(json_int_t)atoll(other("stat -c %%s %s", file)->out));
}

void layout_add_image(const char *folder, const char *name,
	const char *const *files, size_t count)
{
	json_t *ids = json_array(), *blobs = json_array(), *config, *manifest;
	struct th_platform host;
	const char *digest;
	size_t size;

	th_platform_host(&host);
	for (size_t i = 0; i < count; i++)
		json_array_append_new(blobs, put_layer(folder, files[i], ids));
	config = json_pack("{s:s s:s s:{s:[s]} s:{s:s s:o}}", "architecture",
		host.architecture, "os", host.os, "config", "Cmd", "/bin/sh",
		"rootfs", "type", "layers", "diff_ids", ids);
	digest = layout_put(folder, config, &size);
	manifest = json_pack("{s:i s:s s:{s:s s:s s:I} s:o}", "schemaVersion",
		2, "mediaType", TH_MEDIA_MANIFEST, "config", "mediaType",
		TH_MEDIA_CONFIG, "digest", digest, "size", (json_int_t)size,
		"layers", blobs);
	digest = layout_put(folder, manifest, &size);
	layout_name(folder, digest, TH_MEDIA_MANIFEST, size, name);
	json_decref(config);
	json_decref(manifest);
}
