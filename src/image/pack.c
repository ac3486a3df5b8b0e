#include "image/pack.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "base/json.h"
#include "image/resolve.h"
#include "layer/tar_write.h"
#include "store/blob.h"

#define LAYOUT "{\"imageLayoutVersion\":\"1.0.0\"}"
#define REF_NAME "org.opencontainers.image.ref.name"
#define COPY_BYTES (256 * 1024)

struct packing {
	struct th_store *store;
	struct th_tar_out out;
	struct th_cancel cancel;
	struct th_strings written; /* digests */
	int fd;
	char *buffer;
	const char *settings; /* of a file that can be executed, or NULL */
};

/* What a shell reads of such a file: it ends before the archive goes on. At
 * most 100 bytes. */
#define SHELL_LINES                                                            \
	"#!/bin/sh\n"                                                          \
	"hash tidyhull 2>&-||{ echo \"$0 needs Tidy Hull\">&2;exit 127;};"     \
	"exec tidyhull \"$0\" \"$@\"\n"
_Static_assert(sizeof(SHELL_LINES) <= 101, "it must fit into a tar header");

static int put_header(struct packing *packing, const char *name, mode_t type,
	uint64_t size, struct th_error *err)
{
	const struct th_tar_entry entry = {.name = name,
		.link = "",
		.type = type,
		.mode = type == S_IFDIR ? 0755 : 0644,
		.size_bytes = size};

	return th_tar_out_entry(&packing->out, &entry, NULL, 0, err);
}

static int put_data(struct packing *packing, const void *data, size_t len,
	struct th_error *err)
{
	return th_tar_out_data(&packing->out, data, len, err);
}

static int put_text(struct packing *packing, const char *name, const char *text,
	struct th_error *err)
{
	size_t len = strlen(text);

	return put_header(packing, name, S_IFREG, len, err)
		? -1
		: put_data(packing, text, len, err);
}

static int copy_blob(struct packing *packing, int fd, const char *digest,
	struct th_error *err)
{
	struct th_hash *hash = th_hash_new(digest);
	char found[TH_DIGEST_TEXT];
	ssize_t got;
	int rc = 0;

	if (!hash)
		return th_fail_memory(err);

	while (rc == 0 && (got = read(fd, packing->buffer, COPY_BYTES)) != 0) {
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			rc = th_fail_sys(err, TH_FAILED, errno,
				"cannot read the blob %s", digest);
		else if (th_cancelled(packing->cancel))
			rc = th_fail(err, TH_FAILED, "packing was interrupted");
		else
			rc = put_data(
				packing, packing->buffer, (size_t)got, err);
		if (rc == 0)
			th_hash_add(hash, packing->buffer, (size_t)got);
		th_work_add(packing->cancel.work, (uint64_t)got);
	}
	th_hash_digest(hash, found);
	th_hash_free(hash);
	if (rc || strcmp(found, digest) == 0)
		return rc;
	th_fail(err, TH_FAILED, "the blob %s in the store is damaged", digest);
	return th_hint(err, "remove the image and pull it again");
}

static int put_blob(
	struct packing *packing, const char *digest, struct th_error *err)
{
	char name[TH_DIGEST_PATH + 16], blob[TH_DIGEST_PATH];
	struct stat st;
	int fd, rc = -1;

	/* Images share blobs. */
	for (size_t i = 0; i < packing->written.count; i++) {
		if (strcmp(packing->written.items[i], digest) == 0)
			return 0;
	}
	if (th_strings_add(&packing->written, digest))
		return th_fail_memory(err);
	fd = th_blob_open(packing->store, digest, err);
	if (fd < 0)
		return -1;
	snprintf(name, sizeof(name), "blobs/%s", th_digest_path(digest, blob));
	if (fstat(fd, &st))
		th_fail_sys(err, TH_FAILED, errno, "cannot read the blob %s",
			digest);
	else if (put_header(packing, name, S_IFREG, (uint64_t)st.st_size,
			 err) == 0)
		rc = copy_blob(packing, fd, digest, err);
	th_close(&fd);
	return rc;
}

static int put_image(struct packing *packing, const struct th_image_row *image,
	struct th_error *err)
{
	struct th_image_layer *layers = NULL;
	size_t count = 0;
	int rc;

	rc = th_image_state_layers(
		packing->store, image->digest, &layers, &count, err);
	if (rc == 0)
		rc = put_blob(packing, image->digest, err);
	if (rc == 0)
		rc = put_blob(packing, image->config, err);
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = put_blob(packing, layers[i].blob, err);
	free(layers);
	return rc;
}

/* ---- the index ---- */

static json_t *describe(const struct packing *packing,
	const struct th_image_row *image, const char *type, const char *name)
{
	json_t *notes = json_object();
	struct th_platform own;
	json_t *item = json_pack("{s:s s:s s:I}", "mediaType", type, "digest",
		image->digest, "size", (json_int_t)image->manifest_bytes);

	if (th_platform_parse(image->platform, &own, NULL) == 0) {
		json_t *platform = json_pack("{s:s s:s}", "architecture",
			own.architecture, "os", own.os);

		if (own.variant[0])
			json_object_set_new(
				platform, "variant", json_string(own.variant));
		json_object_set_new(item, "platform", platform);
	}
	if (name)
		json_object_set_new(notes, REF_NAME, json_string(name));
	if (packing->settings)
		json_object_set_new(notes, TH_PACK_SETTINGS,
			json_string(packing->settings));
	if (json_object_size(notes))
		json_object_set(item, "annotations", notes);
	json_decref(notes);
	return item;
}

static int add_to_index(struct packing *packing,
	const struct th_pack_item *item, json_t *list, struct th_error *err)
{
	const struct th_image_row *image = item->image;
	struct th_buf body;
	char type[128];
	int rc;

	th_buf_init(&body, TH_MANIFEST_MAX);
	rc = th_blob_read(packing->store, image->digest, &body, err);
	if (rc == 0)
		rc = th_document_type(body.data, body.len, type, err);
	th_buf_release(&body);
	if (rc)
		return -1;
	if (item->name || image->tags.count == 0)
		json_array_append_new(
			list, describe(packing, image, type, item->name));
	for (size_t i = 0; !item->name && i < image->tags.count; i++)
		json_array_append_new(list,
			describe(packing, image, type, image->tags.items[i]));
	return 0;
}

static int put_index(struct packing *packing, const struct th_pack_item *items,
	size_t count, struct th_error *err)
{
	json_t *list = json_array(), *doc;
	char *text = NULL;
	int rc = 0;

	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = add_to_index(packing, &items[i], list, err);
	doc = json_pack("{s:i s:s s:o}", "schemaVersion", 2, "mediaType",
		TH_MEDIA_INDEX, "manifests", list);
	if (rc == 0) {
		text = th_json_text(doc, JSON_COMPACT);
		rc = text ? put_text(packing, "index.json", text, err)
			  : th_fail_memory(err);
	}
	free(text);
	json_decref(doc);
	return rc;
}

static int put_all(struct packing *packing, const struct th_pack_item *items,
	size_t count, struct th_error *err)
{
	if (packing->settings &&
		th_tar_out_comment(&packing->out, SHELL_LINES,
			"an image that can be run by executing this file", err))
		return -1;
	if (put_text(packing, "oci-layout", LAYOUT, err) ||
		put_index(packing, items, count, err) ||
		put_header(packing, "blobs", S_IFDIR, 0, err) ||
		put_header(packing, "blobs/sha256", S_IFDIR, 0, err) ||
		put_header(packing, "blobs/sha512", S_IFDIR, 0, err))
		return -1;
	for (size_t i = 0; i < count; i++) {
		if (put_image(packing, items[i].image, err))
			return -1;
	}
	return th_tar_out_end(&packing->out, err);
}

static int pack_to(struct packing *packing, const struct th_pack_item *items,
	size_t count, struct th_error *err)
{
	int rc = -1;

	th_tar_out_init(&packing->out, packing->fd);
	packing->buffer = malloc(COPY_BYTES);
	if (!packing->buffer) {
		th_fail_memory(err);
		goto out;
	}
	rc = put_all(packing, items, count, err);
out:
	th_tar_out_release(&packing->out);
	free(packing->buffer);
	th_strings_release(&packing->written);
	return rc;
}

/* ---- the file ---- */

/* Where the file is made: without a name where the file system can do that, as
 * then nothing stays of one that is killed; else beside its place. */
struct target {
	const char *path;
	char *folder, *beside;
	bool named; /* beside is there */
};

static int target_init(
	struct target *target, const char *path, struct th_error *err)
{
	const char *name = strrchr(path, '/');

	*target = (struct target){.path = path};
	target->folder = name == path ? strdup("/")
		: name		      ? strndup(path, (size_t)(name - path))
				      : strdup(".");
	target->beside = th_format("%s.%d.new", path, (int)getpid());
	return target->folder && target->beside ? 0 : th_fail_memory(err);
}

static void target_release(struct target *target)
{
	if (target->named)
		unlink(target->beside);
	free(target->folder);
	free(target->beside);
}

static int target_open(struct target *target, mode_t mode)
{
	int fd = open(target->folder, O_WRONLY | O_TMPFILE | O_CLOEXEC, mode);

	if (fd >= 0)
		return fd;
	fd = open(
		target->beside, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
	target->named = fd >= 0;
	return fd;
}

static int target_link(const struct target *target, int fd, const char *to)
{
	char from[40];

	if (target->named)
		return link(target->beside, to);
	snprintf(from, sizeof(from), "/proc/self/fd/%d", fd);
	return linkat(AT_FDCWD, from, AT_FDCWD, to, AT_SYMLINK_FOLLOW);
}

/* Gives it its name. A link takes the place of nothing: what has got that name
 * meanwhile stays, unless it is to be replaced. */
static int target_place(struct target *target, int fd, bool replace)
{
	if (fsync(fd))
		return -1;
	if (target_link(target, fd, target->path) == 0)
		return 0;
	if (errno == EEXIST ? !replace : !target->named)
		return -1;
	if (!target->named && target_link(target, fd, target->beside))
		return -1;
	/* Or it is on a file system that knows no links. */
	target->named = true;
	if (rename(target->beside, target->path))
		return -1;
	target->named = false;
	return 0;
}

static int fail_exists(const char *path, struct th_error *err)
{
	th_fail(err, TH_IN_USE, "%.300s already exists", path);
	return th_hint(err, "choose another name, or use --yes to replace it");
}

static int pack_file(struct packing *packing, const struct th_pack_item *items,
	size_t count, const char *path, bool replace, struct th_error *err)
{
	struct target target;
	int rc = target_init(&target, path, err);

	if (rc)
		goto out;
	rc = -1;
	packing->fd = target_open(&target, packing->settings ? 0755 : 0644);
	if (packing->fd < 0) {
		th_fail_write(err, errno, "cannot write %.300s", path);
		goto out;
	}
	rc = pack_to(packing, items, count, err);
	if (rc == 0 && target_place(&target, packing->fd, replace))
		rc = errno == EEXIST && !replace
			? fail_exists(path, err)
			: th_fail_write(
				  err, errno, "cannot write %.300s", path);
out:
	th_close(&packing->fd);
	target_release(&target);
	return rc;
}

/* A pipe or a terminal, by its name. */
static int pack_stream(struct packing *packing,
	const struct th_pack_item *items, size_t count, const char *path,
	struct th_error *err)
{
	int rc;

	packing->fd = open(path, O_WRONLY | O_NOCTTY | O_CLOEXEC);
	if (packing->fd < 0)
		return th_fail_write(err, errno, "cannot write %.300s", path);
	rc = pack_to(packing, items, count, err);
	th_close(&packing->fd);
	return rc;
}

/* Where a link leads is what is written: /dev/stdout is one. */
static int pack_path(struct packing *packing, const struct th_pack_item *items,
	size_t count, const char *path, bool replace, struct th_error *err)
{
	struct stat st;
	char *real;
	int rc;

	if (stat(path, &st))
		return pack_file(packing, items, count, path, replace, err);
	if (th_file_is_stream(path))
		return pack_stream(packing, items, count, path, err);
	if (S_ISDIR(st.st_mode)) {
		th_fail(err, TH_USAGE, "%.300s is a folder", path);
		return th_hint(err, "give the file a name: %.300s%sNAME.tar",
			path, path[strlen(path) - 1] == '/' ? "" : "/");
	}
	if (!S_ISREG(st.st_mode))
		return th_fail(err, TH_USAGE,
			"%.300s is neither a file nor a pipe", path);
	if (!replace)
		return fail_exists(path, err);
	real = realpath(path, NULL);
	rc = pack_file(packing, items, count, real ? real : path, replace, err);
	free(real);
	return rc;
}

static int pack(struct packing *packing, const struct th_pack_item *items,
	size_t count, const char *path, bool replace, uint64_t *size_bytes,
	struct th_error *err)
{
	int rc;

	if (th_store_use_images(packing->store, err))
		return -1;
	rc = strcmp(path, "-") == 0
		? pack_to(packing, items, count, err)
		: pack_path(packing, items, count, path, replace, err);
	th_store_unuse_images(packing->store);
	*size_bytes = packing->out.written_bytes;
	return rc;
}

int th_pack(struct th_store *store, const struct th_pack_item *items,
	size_t count, const char *path, bool replace, struct th_cancel cancel,
	uint64_t *size_bytes, struct th_error *err)
{
	struct packing packing = {.store = store, .cancel = cancel, .fd = 1};

	return pack(&packing, items, count, path, replace, size_bytes, err);
}

int th_pack_runnable(struct th_store *store, const struct th_pack_item *item,
	const char *settings, const char *path, bool replace,
	struct th_cancel cancel, uint64_t *size_bytes, struct th_error *err)
{
	struct packing packing = {.store = store,
		.cancel = cancel,
		.fd = 1,
		.settings = settings};

	return pack(&packing, item, 1, path, replace, size_bytes, err);
}
