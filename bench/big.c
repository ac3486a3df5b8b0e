/* A root file system of six layers and some 650 MB in about 30,000 files, or of
 * as many small ones: made up, but with sizes and a compressibility like those
 * of real ones. */
#include <archive.h>
#include <archive_entry.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "base/json.h"
#include "bench.h"
#include "oci/manifest.h"

#define LAYERS 6
#define FILE_MAX_BYTES (4u << 20)
/* Some 5,000 files. */
#define SMALL_MAX_BYTES 2000
#define SMALL_LAYER_BYTES 5000000

static const unsigned int layer_mb[LAYERS] = {230, 150, 110, 80, 50, 30};

struct layer {
	const char *folder;
	unsigned int number;
	bool small;
	struct th_hash *plain, *packed;
	int fd;
	char diff_id[TH_DIGEST_TEXT], digest[TH_DIGEST_TEXT];
	size_t size;
	uint64_t seed;
	char *text; /* what files are cut from */
};

static uint64_t next(uint64_t *seed)
{
	*seed ^= *seed << 13;
	*seed ^= *seed >> 7;
	*seed ^= *seed << 17;
	return *seed;
}

static la_ssize_t take_packed(
	struct archive *archive, void *owner, const void *data, size_t len)
{
	struct layer *layer = owner;

	(void)archive;
	if (th_write_all(layer->fd, data, len))
		return -1;
	th_hash_add(layer->packed, data, len);
	layer->size += len;
	return (la_ssize_t)len;
}

/* The tar goes through a hash on its way to the compressor. */
static la_ssize_t take_plain(
	struct archive *archive, void *owner, const void *data, size_t len)
{
	(void)archive;
	return archive_write_data(owner, data, len);
}

/* Words, numbers and some noise: about three to one when compressed. */
static void make_text(struct layer *layer)
{
	static const char *const words[] = {"tide", "gauge", "harbour", "pilot",
		"chart", "berth", "ledger", "mole", "basin", "buoy", "lantern",
		"fathom", "anchor", "keel", "ebb", "flood"};
	size_t used = 0;

	layer->text = malloc(FILE_MAX_BYTES + 64);
	while (layer->text && used < FILE_MAX_BYTES) {
		uint64_t value = next(&layer->seed);

		if (value % 5 == 0)
			used += (size_t)snprintf(layer->text + used, 24,
				"%016llx ", (unsigned long long)value);
		else
			used += (size_t)snprintf(layer->text + used, 24,
				"%s%llu ", words[value >> 8 & 15],
				(unsigned long long)(value >> 12 & 1023));
	}
}

static void put_entry(struct archive *tar, const char *name, unsigned int type,
	const char *data, size_t len)
{
	struct archive_entry *entry = archive_entry_new();

	archive_entry_set_pathname(entry, name);
	archive_entry_set_filetype(entry, type);
	archive_entry_set_perm(entry, type == AE_IFDIR ? 0755 : 0644);
	archive_entry_set_mtime(entry, 1772323200, 0);
	archive_entry_set_size(entry, (la_int64_t)len);
	if (archive_write_header(tar, entry) ||
		(len && archive_write_data(tar, data, len) < 0))
		abort();
	archive_entry_free(entry);
}

/* Most files are small, and few are most of the bytes. */
static size_t file_size(struct layer *layer)
{
	uint64_t value = next(&layer->seed);

	if (layer->small)
		return (size_t)(next(&layer->seed) % SMALL_MAX_BYTES);
	if (value % 100 == 0)
		return (size_t)(next(&layer->seed) % (2u << 20));
	if (value % 10 == 0)
		return (size_t)(next(&layer->seed) % 100000);
	return (size_t)(next(&layer->seed) % 6000);
}

static void fill(struct layer *layer, struct archive *tar)
{
	size_t left = layer->small ? SMALL_LAYER_BYTES
				   : (size_t)layer_mb[layer->number] * 1000000;
	int file = 0;
	char name[100];

	while (left > 0) {
		size_t len = file_size(layer), at;

		if (len > left)
			len = left;
		if (file % 40 == 0) {
			snprintf(name, sizeof(name), "usr/share/%u/%d",
				layer->number, file / 40);
			put_entry(tar, name, AE_IFDIR, NULL, 0);
		}
		at = (size_t)(next(&layer->seed) % (FILE_MAX_BYTES - len));
		snprintf(name, sizeof(name), "usr/share/%u/%d/%d",
			layer->number, file / 40, file);
		put_entry(tar, name, AE_IFREG, layer->text + at, len);
		left -= len;
		file++;
	}
}

/* An archive for the hash of the plain bytes, one behind it for the blob. */
struct chain {
	struct layer *layer;
	struct archive *gzip;
};

static la_ssize_t take_tar(
	struct archive *archive, void *owner, const void *data, size_t len)
{
	struct chain *chain = owner;

	th_hash_add(chain->layer->plain, data, len);
	return take_plain(archive, chain->gzip, data, len);
}

static void *make_layer(void *owner)
{
	struct layer *layer = owner;
	struct archive *tar = archive_write_new();
	struct archive_entry *entry = archive_entry_new();
	struct chain chain = {layer, archive_write_new()};
	char *path = th_format("%s/new-%u", layer->folder, layer->number);
	char *final;

	layer->seed = 88172645463325252u + layer->number;
	layer->plain = th_hash_new(NULL);
	layer->packed = th_hash_new(NULL);
	layer->fd = open(path, O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
	make_text(layer);
	archive_write_set_format_raw(chain.gzip);
	archive_write_set_bytes_in_last_block(chain.gzip, 1);
	archive_write_add_filter_gzip(chain.gzip);
	archive_write_set_filter_option(
		chain.gzip, "gzip", "compression-level", "4");
	archive_write_open(chain.gzip, layer, NULL, take_packed, NULL);
	archive_entry_set_filetype(entry, AE_IFREG);
	archive_write_header(chain.gzip, entry);
	archive_write_set_format_ustar(tar);
	archive_write_set_bytes_in_last_block(tar, 1);
	archive_write_open(tar, &chain, NULL, take_tar, NULL);
	fill(layer, tar);
	archive_write_free(tar);
	archive_write_free(chain.gzip);
	archive_entry_free(entry);
	close(layer->fd);
	th_hash_digest(layer->plain, layer->diff_id);
	th_hash_digest(layer->packed, layer->digest);
	final = th_format(
		"%s/blobs/sha256/%s", layer->folder, layer->digest + 7);
	if (rename(path, final))
		abort();
	th_hash_free(layer->plain);
	th_hash_free(layer->packed);
	free(layer->text);
	free(path);
	free(final);
	return NULL;
}

static json_t *put_document(
	const char *folder, json_t *doc, const char *type, char *digest)
{
	char *text = json_dumps(doc, JSON_COMPACT), *path;
	struct th_error err = {0};
	json_t *descriptor;

	th_hash_once(text, strlen(text), digest);
	path = th_format("%s/blobs/sha256/%s", folder, digest + 7);
	th_file_replace(AT_FDCWD, path, text, strlen(text), 0644, false, &err);
	descriptor = json_pack("{s:s s:s s:I}", "mediaType", type, "digest",
		digest, "size", (json_int_t)strlen(text));
	free(path);
	free(text);
	json_decref(doc);
	return descriptor;
}

static void put_image(
	const char *folder, const char *name, const struct layer *layers)
{
	json_t *ids = json_array(), *blobs = json_array(), *config, *manifest;
	char digest[TH_DIGEST_TEXT];
	struct th_error err = {0};
	struct th_platform host;
	int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	th_platform_host(&host);
	for (int i = 0; i < LAYERS; i++) {
		json_array_append_new(ids, json_string(layers[i].diff_id));
		json_array_append_new(blobs,
			json_pack("{s:s s:s s:I}", "mediaType",
				TH_MEDIA_LAYER_GZIP, "digest", layers[i].digest,
				"size", (json_int_t)layers[i].size));
	}
	config = put_document(folder,
		json_pack("{s:s s:s s:{} s:{s:s s:o}}", "architecture",
			host.architecture, "os", host.os, "config", "rootfs",
			"type", "layers", "diff_ids", ids),
		TH_MEDIA_CONFIG, digest);
	manifest = put_document(folder,
		json_pack("{s:i s:s s:o s:o}", "schemaVersion", 2, "mediaType",
			TH_MEDIA_MANIFEST, "config", config, "layers", blobs),
		TH_MEDIA_MANIFEST, digest);
	json_object_set_new(manifest, "annotations",
		json_pack("{s:s}", "org.opencontainers.image.ref.name", name));
	th_json_write_file(fd, "index.json",
		json_pack("{s:i s:[o]}", "schemaVersion", 2, "manifests",
			manifest),
		0644, false, &err);
	th_file_replace(fd, "oci-layout", "{\"imageLayoutVersion\":\"1.0.0\"}",
		30, 0644, false, &err);
	close(fd);
}

void big_make(const char *folder, const char *name, bool small)
{
	struct layer layers[LAYERS] = {{0}};
	pthread_t threads[LAYERS];
	char *blobs = th_format("%s/blobs/sha256", folder);
	struct th_error err = {0};

	if (th_dir_make(blobs, 0755, &err)) {
		fprintf(stderr, "bench: %s\n", err.msg);
		exit(1);
	}
	free(blobs);
	for (unsigned int i = 0; i < LAYERS; i++) {
		layers[i].folder = folder;
		layers[i].number = i;
		layers[i].small = small;
		if (pthread_create(&threads[i], NULL, make_layer, &layers[i]))
			abort();
	}
	for (int i = 0; i < LAYERS; i++)
		pthread_join(threads[i], NULL);
	put_image(folder, name, layers);
}
