#include "image/packed.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "base/path.h"
#include "image/pack.h"
#include "layer/inflate.h"
#include "layer/tar.h"

#define REF_NAME "org.opencontainers.image.ref.name"
#define ENTRIES_MAX 1000000
#define IMAGES_MAX 100000
#define READ_BYTES (256 * 1024)
#define LAYOUT_MAX 4096

/* Where a blob lies in the archive. */
struct place {
	char blob[TH_DIGEST_PATH]; /* "sha256/..." */
	uint64_t offset, size_bytes;
};

struct th_packed {
	char *path; /* as it was given, for messages */
	int fd; /* the archive, or -1 */
	struct th_cancel cancel; /* of what is read to make a copy */
	int folder; /* the layout, or -1 */
	struct place *places; /* sorted by blob */
	size_t place_count;
	struct th_buf index, layout;
	struct th_packed_image *images;
	size_t image_count;
};

bool th_packed_is_path(const char *text)
{
	size_t len = strlen(text);
	struct stat st;

	if (text[0] == '/' || strncmp(text, "./", 2) == 0 ||
		strncmp(text, "../", 3) == 0)
		return true;
	return len > 4 && strcmp(text + len - 4, ".tar") == 0 &&
		stat(text, &st) == 0 && S_ISREG(st.st_mode);
}

static int damaged(
	const struct th_packed *packed, const char *why, struct th_error *err)
{
	size_t len = strlen(packed->path);

	th_fail(err, TH_FAILED, "%.200s is not a packed image: %.200s",
		packed->path, why);
	if (len > 5 && strcmp(packed->path + len - 5, ".yaml") == 0)
		return th_hint(err,
			"if it is a recipe: tidyhull build %.100s; if "
			"settings: "
			"--settings %.100s",
			packed->path, packed->path);
	return th_hint(err, "tidyhull pack creates one");
}

/* ---- a copy that can be read anywhere ---- */

/* A pipe may say nothing for long, and an archive be very large: until it is
 * cancelled or, where nobody can do that, until a signal is caught. */
static ssize_t read_some(const struct th_packed *packed, void *data, size_t len,
	struct th_error *err)
{
	bool waits = packed->cancel.flags[0] || packed->cancel.flags[1];
	ssize_t got = -1;

	do {
		if (waits && !th_fd_wait(packed->fd, packed->cancel))
			break;
		got = read(packed->fd, data, len);
	} while (got < 0 && errno == EINTR && waits);
	if (got >= 0)
		return got;
	return th_cancelled(packed->cancel) || errno == EINTR
		? th_fail(err, TH_FAILED, "reading %.200s was interrupted",
			  strcmp(packed->path, "-") == 0 ? "standard input"
							 : packed->path)
		: th_fail_sys(err, TH_FAILED, errno, "cannot read %.200s",
			  packed->path);
}

struct fd_source {
	struct th_source source;
	const struct th_packed *packed;
	const char *head; /* what was read to see what it is */
	size_t head_len;
	char *data; /* READ_BYTES */
};

static ssize_t next_of_fd(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct fd_source *from = (struct fd_source *)(void *)source;
	ssize_t got;

	if (from->head_len) {
		got = (ssize_t)from->head_len;
		*data = from->head;
		from->head_len = 0;
		return got;
	}
	got = read_some(from->packed, from->data, READ_BYTES, err);
	*data = from->data;
	return got;
}

static int copy_out(struct th_packed *packed, int to, const char *head,
	size_t head_len, enum th_compression compression, struct th_error *err)
{
	struct fd_source source = {
		.source = {next_of_fd}, .packed = packed, .head = head};
	struct th_inflate *inflate = NULL;
	struct th_source *plain;
	const void *data;
	ssize_t got = -1;

	source.head_len = head_len;
	source.data = malloc(READ_BYTES);
	inflate = th_inflate_new(compression, &source.source);
	if (!source.data || !inflate) {
		th_fail_memory(err);
		goto out;
	}
	plain = th_inflate_source(inflate);
	while ((got = plain->next(plain, &data, err)) > 0) {
		if (th_write_all(to, data, (size_t)got) == 0)
			continue;
		th_fail_write(err, errno, "cannot copy %.200s", packed->path);
		got = -1;
		break;
	}
out:
	th_inflate_free(inflate);
	free(source.data);
	return got < 0 ? -1 : 0;
}

/* Replaces the descriptor by that of a plain copy where one is needed. */
static int make_seekable(
	struct th_store *store, struct th_packed *packed, struct th_error *err)
{
	enum th_compression compression = TH_PLAIN;
	unsigned char head[4] = {0};
	size_t len = 0;
	bool seekable = lseek(packed->fd, 0, SEEK_CUR) >= 0;
	int copy, rc;

	while (len < sizeof(head)) {
		ssize_t got =
			read_some(packed, head + len, sizeof(head) - len, err);

		if (got < 0)
			return -1;
		if (got == 0)
			break;
		len += (size_t)got;
	}
	if (head[0] == 0x1f && head[1] == 0x8b)
		compression = TH_GZIP;
	else if (memcmp(head, "\x28\xb5\x2f\xfd", 4) == 0)
		compression = TH_ZSTD;
	if (seekable && compression == TH_PLAIN)
		return 0;
	copy = openat(store ? store->root_fd : AT_FDCWD, store ? "tmp" : "/tmp",
		O_RDWR | O_TMPFILE | O_CLOEXEC, 0600);
	if (copy < 0)
		return th_fail_write(err, errno, "cannot write to %s/tmp",
			store ? store->root : "");
	rc = copy_out(packed, copy, (const char *)head, len, compression, err);
	th_close(&packed->fd);
	packed->fd = copy;
	return rc;
}

/* ---- what is in it ---- */

static int compare_places(const void *a, const void *b)
{
	return strcmp(((const struct place *)a)->blob,
		((const struct place *)b)->blob);
}

static int add_place(struct th_packed *packed, const char *blob,
	uint64_t offset, uint64_t size_bytes, struct th_error *err)
{
	size_t count = packed->place_count;
	struct place *place;

	if ((count & (count - 1)) == 0) {
		struct place *bigger = realloc(packed->places,
			(count ? count * 2 : 1) * sizeof(*bigger));

		if (!bigger)
			return th_fail_memory(err);
		packed->places = bigger;
	}
	place = &packed->places[packed->place_count++];
	snprintf(place->blob, sizeof(place->blob), "%s", blob);
	place->offset = offset;
	place->size_bytes = size_bytes;
	return 0;
}

static int read_at(int fd, uint64_t offset, uint64_t len, struct th_buf *buf,
	struct th_error *err)
{
	char *room = len <= buf->limit - buf->len
		? th_buf_room(buf, (size_t)len)
		: NULL;
	size_t have = 0;

	if (!room)
		return th_fail(err, TH_FAILED,
			"a document in the packed file is larger than the "
			"maximum of %zu bytes",
			buf->limit);
	while (have < len) {
		ssize_t got = pread(fd, room + have, (size_t)len - have,
			(off_t)(offset + have));

		if (got < 0 && errno == EINTR)
			continue;
		if (got <= 0)
			return th_fail(
				err, TH_FAILED, "the packed file is truncated");
		have += (size_t)got;
	}
	buf->len += (size_t)len;
	buf->data[buf->len] = '\0';
	return 0;
}

static int take_entry(struct th_packed *packed,
	const struct th_tar_entry *entry, struct th_error *err)
{
	static const char blobs[] = "blobs/";
	char digest[TH_DIGEST_TEXT];
	const char *name = entry->name;

	if (entry->type != S_IFREG || entry->sparse)
		return 0;
	while (strncmp(name, "./", 2) == 0)
		name += 2;
	if (strcmp(name, "index.json") == 0) {
		packed->index.len = 0;
		return read_at(packed->fd, entry->offset, entry->size_bytes,
			&packed->index, err);
	}
	if (strcmp(name, "oci-layout") == 0) {
		packed->layout.len = 0;
		return read_at(packed->fd, entry->offset, entry->size_bytes,
			&packed->layout, err);
	}
	if (strncmp(name, blobs, strlen(blobs)) != 0)
		return 0;
	name += strlen(blobs);
	snprintf(digest, sizeof(digest), "%s", name);
	if (strlen(name) >= sizeof(digest) || strlen(name) < 7 ||
		digest[6] != '/')
		return 0;
	digest[6] = ':';
	if (!th_digest_valid(digest))
		return 0;
	return add_place(packed, name, entry->offset, entry->size_bytes, err);
}

static int read_archive(struct th_packed *packed, struct th_error *err)
{
	const struct th_tar_entry *entry;
	struct th_error why = {0};
	struct th_tar *tar;
	int count = 0, rc;

	if (lseek(packed->fd, 0, SEEK_SET) < 0)
		return damaged(packed, strerror(errno), err);
	tar = th_tar_new_fd(packed->fd, (struct th_cancel){0});
	if (!tar)
		return th_fail_memory(err);
	while ((rc = th_tar_next(tar, &entry, &why)) == 1) {
		if (++count > ENTRIES_MAX)
			rc = damaged(packed, "it has too many entries", err);
		else
			rc = take_entry(packed, entry, err);
		if (rc)
			break;
	}
	if (rc && why.code)
		damaged(packed, why.msg, err);
	if (rc == 0 && packed->place_count)
		qsort(packed->places, packed->place_count,
			sizeof(*packed->places), compare_places);
	th_tar_free(tar);
	return rc;
}

/* The name of an image: whole in the annotation; or only a tag, which is then
 * one of an image that is called like the file. */
static void name_image(const struct th_packed *packed, const char *given,
	char name[TH_REFERENCE_MAX + 256])
{
	const char *file = th_path_last(packed->path);
	struct th_reference ref;
	struct th_error ignored = {0}; /* then it has no name */
	char whole[TH_REFERENCE_MAX];
	size_t len = strcspn(file, ".");

	name[0] = '\0';
	if (!given || !*given)
		return;
	if (strpbrk(given, "/:"))
		snprintf(whole, sizeof(whole), "%.500s", given);
	else
		snprintf(whole, sizeof(whole), "%.*s:%.200s",
			len < 200 ? (int)len : 200, file, given);
	if (th_reference_parse(whole, &ref, &ignored) || ref.digest[0])
		return;
	th_reference_format(&ref, name);
}

static int read_settings(
	const json_t *item, struct th_packed_image *image, struct th_error *err)
{
	const char *text = json_string_value(json_object_get(
		json_object_get(item, "annotations"), TH_PACK_SETTINGS));

	if (!text)
		return 0;
	image->settings = strdup(text);
	return image->settings ? 0 : th_fail_memory(err);
}

static int read_images(
	struct th_packed *packed, json_t *list, struct th_error *err)
{
	json_t *item;
	size_t i;

	if (json_array_size(list) > IMAGES_MAX)
		return damaged(packed, "its index is too long", err);
	packed->images =
		calloc(json_array_size(list) + 1, sizeof(*packed->images));
	if (!packed->images)
		return th_fail_memory(err);
	json_array_foreach(list, i, item)
	{
		struct th_packed_image *image =
			&packed->images[packed->image_count];
		const char *digest =
			json_string_value(json_object_get(item, "digest"));
		const char *given = json_string_value(json_object_get(
			json_object_get(item, "annotations"), REF_NAME));

		if (!digest || !th_digest_valid(digest))
			return damaged(packed,
				"its index has an entry without a digest", err);
		snprintf(image->digest, sizeof(image->digest), "%s", digest);
		name_image(packed, given, image->name);
		image->settings = NULL;
		packed->image_count++;
		if (read_settings(item, image, err))
			return -1;
	}
	return 0;
}

static int read_index(struct th_packed *packed, struct th_error *err)
{
	const char *version = NULL;
	json_t *doc = NULL, *list = NULL;
	int rc = -1;

	if (packed->layout.len == 0 || packed->index.len == 0)
		return damaged(packed,
			"it is not an OCI image layout (oci-layout and "
			"index.json are missing)",
			err);
	if (th_json_parse(packed->layout.data, packed->layout.len, "oci-layout",
		    &doc, err) ||
		th_json_string(doc, "imageLayoutVersion", "oci-layout",
			&version, err) < 0)
		goto out;
	if (!version || strncmp(version, "1.", 2) != 0) {
		damaged(packed, "its layout version is not 1", err);
		goto out;
	}
	json_decref(doc);
	doc = NULL;
	if (th_json_parse(packed->index.data, packed->index.len, "index.json",
		    &doc, err))
		goto out;
	if (th_json_array(doc, "manifests", "index.json", &list, err) != 1) {
		damaged(packed, "its index is empty", err);
		goto out;
	}
	rc = read_images(packed, list, err);
out:
	json_decref(doc);
	return rc;
}

static int open_at_path(
	struct th_store *store, struct th_packed *packed, struct th_error *err)
{
	struct stat st;
	int fd = strcmp(packed->path, "-") == 0
		? dup(0)
		: open(packed->path, O_RDONLY | O_CLOEXEC | O_NOCTTY);

	if (fd < 0)
		return th_fail_sys(err,
			errno == ENOENT ? TH_NOT_FOUND : TH_FAILED, errno,
			"cannot open %.300s", packed->path);
	if (fstat(fd, &st) == 0 && S_ISDIR(st.st_mode)) {
		packed->folder = fd;
		if (th_file_read_regular(
			    fd, "index.json", &packed->index, err) < 0 ||
			th_file_read_regular(
				fd, "oci-layout", &packed->layout, err) < 0)
			return -1;
		return 0;
	}
	packed->fd = fd;
	return make_seekable(store, packed, err) ? -1
						 : read_archive(packed, err);
}

int th_packed_open(struct th_store *store, const char *path,
	struct th_cancel cancel, struct th_packed **packed,
	struct th_error *err)
{
	struct th_packed *made = calloc(1, sizeof(*made));

	if (!made)
		return th_fail_memory(err);
	made->fd = made->folder = -1;
	made->cancel = cancel;
	th_buf_init(&made->index, TH_MANIFEST_MAX);
	th_buf_init(&made->layout, LAYOUT_MAX);
	made->path = strdup(path);
	if (!made->path) {
		th_fail_memory(err);
		th_packed_close(made);
		return -1;
	}
	if (open_at_path(store, made, err) || read_index(made, err)) {
		th_packed_close(made);
		return -1;
	}
	*packed = made;
	return 0;
}

void th_packed_close(struct th_packed *packed)
{
	if (!packed)
		return;
	th_close(&packed->fd);
	th_close(&packed->folder);
	th_buf_release(&packed->index);
	th_buf_release(&packed->layout);
	free(packed->places);
	for (size_t i = 0; i < packed->image_count; i++)
		free(packed->images[i].settings);
	free(packed->images);
	free(packed->path);
	free(packed);
}

const struct th_packed_image *th_packed_images(
	const struct th_packed *packed, size_t *count)
{
	*count = packed->image_count;
	return packed->images;
}

/* ---- blobs ---- */

struct th_packed_reader {
	struct th_source source; /* first: the two are one */
	int fd; /* borrowed, or own where owned says so */
	bool owned;
	uint64_t at, end;
	char data[READ_BYTES];
};

static ssize_t next_of_part(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_packed_reader *reader =
		(struct th_packed_reader *)(void *)source;
	uint64_t left = reader->end - reader->at;
	ssize_t got;

	if (left == 0)
		return 0;
	do
		got = pread(reader->fd, reader->data,
			left < READ_BYTES ? (size_t)left : READ_BYTES,
			(off_t)reader->at);
	while (got < 0 && errno == EINTR);
	if (got < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read the packed file");
	reader->at += (uint64_t)got;
	*data = reader->data;
	return got;
}

static int find_blob(const struct th_packed *packed, const char *digest,
	struct th_packed_reader *reader, struct th_error *err)
{
	struct place wanted = {{0}, 0, 0}, *found;
	char path[TH_DIGEST_PATH + 16];
	struct stat st;

	if (packed->folder >= 0) {
		snprintf(path, sizeof(path), "blobs/%s",
			th_digest_path(digest, wanted.blob));
		reader->fd =
			th_path_open_beneath(packed->folder, path, O_RDONLY, 0);
		reader->owned = true;
		if (reader->fd >= 0 && fstat(reader->fd, &st) == 0) {
			reader->end = (uint64_t)st.st_size;
			return 0;
		}
	} else {
		th_digest_path(digest, wanted.blob);
		found = packed->place_count
			? bsearch(&wanted, packed->places, packed->place_count,
				  sizeof(wanted), compare_places)
			: NULL;
		if (found) {
			reader->fd = packed->fd;
			reader->at = found->offset;
			reader->end = found->offset + found->size_bytes;
			return 0;
		}
	}
	return th_fail(err, TH_NOT_FOUND, "%.200s does not contain the blob %s",
		packed->path, digest);
}

int th_packed_blob(const struct th_packed *packed, const char *digest,
	uint64_t offset, struct th_packed_reader **reader, struct th_error *err)
{
	struct th_packed_reader *made = malloc(sizeof(*made));

	if (!made)
		return th_fail_memory(err);
	made->source.next = next_of_part;
	made->fd = -1;
	made->owned = false;
	made->at = made->end = 0;
	if (find_blob(packed, digest, made, err)) {
		th_packed_reader_free(made);
		return -1;
	}
	made->at =
		offset < made->end - made->at ? made->at + offset : made->end;
	*reader = made;
	return 0;
}

struct th_source *th_packed_reader_source(struct th_packed_reader *reader)
{
	return &reader->source;
}

void th_packed_reader_free(struct th_packed_reader *reader)
{
	if (reader && reader->owned)
		th_close(&reader->fd);
	free(reader);
}

int th_packed_document(const struct th_packed *packed, const char *digest,
	struct th_buf *body, struct th_error *err)
{
	struct th_packed_reader *reader = NULL;
	const void *data;
	ssize_t got;

	if (th_packed_blob(packed, digest, 0, &reader, err))
		return -1;
	while ((got = next_of_part(&reader->source, &data, err)) > 0)
		th_buf_add(body, data, (size_t)got);
	th_packed_reader_free(reader);
	if (got < 0)
		return -1;
	return body->failed ? th_fail(err, TH_FAILED,
				      "the document %.19s is larger than the "
				      "maximum of %zu bytes",
				      digest, body->limit)
			    : 0;
}
