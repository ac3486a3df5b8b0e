#include "chandler/layout.h"

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

#define INDEX_MAX (16u << 20)
#define REF_NAME "org.opencontainers.image.ref.name"

static bool read_document(
	const struct layout *layout, const char *digest, json_t **doc)
{
	struct th_error ignored = {0}; /* then there is none */
	char path[TH_DIGEST_PATH + 16];

	snprintf(path, sizeof(path), "blobs/%s",
		th_digest_path(digest, (char[TH_DIGEST_PATH]){0}));
	return th_json_read_file(
		       layout->folder, path, INDEX_MAX, doc, &ignored) == 1;
}

static void add_blob(
	struct layout *layout, const char *name, const char *digest)
{
	json_t *set = json_object_get(layout->blobs, name);

	if (!digest || !th_digest_valid(digest))
		return;
	if (!set) {
		set = json_object();
		json_object_set_new(layout->blobs, name, set);
	}
	json_object_set_new(set, digest, json_true());
}

static const char *digest_of(const json_t *item)
{
	return json_string_value(json_object_get(item, "digest"));
}

/* What a document of the name leads to belongs to the name. */
static void learn(
	struct layout *layout, const char *name, const char *digest, int depth)
{
	json_t *doc = NULL, *item;
	size_t i;

	if (!digest || !th_digest_valid(digest) || depth > 4)
		return;
	add_blob(layout, name, digest);
	if (!read_document(layout, digest, &doc))
		return;
	add_blob(layout, name, digest_of(json_object_get(doc, "config")));
	json_array_foreach(json_object_get(doc, "layers"), i, item)
	{
		add_blob(layout, name, digest_of(item));
	}
	json_array_foreach(json_object_get(doc, "manifests"), i, item)
	{
		learn(layout, name, digest_of(item), depth + 1);
	}
	json_decref(doc);
}

/* "NAME:TAG" of an item: the name's length, 0 where it has none. */
static size_t split_name(const json_t *item, const char **full)
{
	const char *colon;

	*full = json_string_value(json_object_get(
		json_object_get(item, "annotations"), REF_NAME));
	colon = *full ? strrchr(*full, ':') : NULL;
	return colon ? (size_t)(colon - *full) : 0;
}

int layout_open(const char *path, struct layout *layout, struct th_error *err)
{
	json_t *doc = NULL, *item;
	size_t i;
	int rc;

	layout->index = layout->blobs = NULL;
	layout->folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (layout->folder < 0)
		return th_fail_sys(
			err, TH_NOT_FOUND, errno, "cannot open %s", path);
	rc = th_json_read_file(
		layout->folder, "index.json", INDEX_MAX, &doc, err);
	if (rc == 0)
		th_fail(err, TH_NOT_FOUND, "%s is not an OCI image layout",
			path);
	if (rc != 1) {
		th_close(&layout->folder);
		return -1;
	}
	pthread_mutex_init(&layout->mutex, NULL);
	layout->index = doc;
	layout->blobs = json_object();
	json_array_foreach(json_object_get(doc, "manifests"), i, item)
	{
		const char *full;
		size_t len = split_name(item, &full);
		char name[512];

		snprintf(name, sizeof(name), "%.*s", (int)len, len ? full : "");
		if (len && len < sizeof(name))
			learn(layout, name, digest_of(item), 0);
	}
	return 0;
}

void layout_close(struct layout *layout)
{
	th_close(&layout->folder);
	json_decref(layout->index);
	json_decref(layout->blobs);
	pthread_mutex_destroy(&layout->mutex);
}

/* The tag of an item where it is one of the name. */
static const char *tag_of(const json_t *item, const char *name)
{
	const char *full;
	size_t len = split_name(item, &full);

	if (!len || len != strlen(name) || strncmp(full, name, len) != 0)
		return NULL;
	return full + len + 1;
}

/* What a document that only a digest leads to says of itself. */
static bool read_type(
	const struct layout *layout, const char *digest, char type[128])
{
	const char *own;
	json_t *doc = NULL;

	if (!read_document(layout, digest, &doc))
		return false;
	own = json_string_value(json_object_get(doc, "mediaType"));
	snprintf(type, 128, "%s", own ? own : "application/json");
	json_decref(doc);
	return true;
}

static bool has_blob(
	const struct layout *layout, const char *name, const char *digest)
{
	return json_object_get(json_object_get(layout->blobs, name), digest) !=
		NULL;
}

static bool find(struct layout *layout, const char *name, const char *wanted,
	char digest[TH_DIGEST_TEXT], char type[128])
{
	json_t *list = json_object_get(layout->index, "manifests"), *item;
	size_t i;

	json_array_foreach(list, i, item)
	{
		const char *tag = tag_of(item, name);
		const char *found = digest_of(item);
		const char *media =
			json_string_value(json_object_get(item, "mediaType"));

		if (!tag || !found || !th_digest_valid(found) ||
			(strcmp(tag, wanted) != 0 &&
				strcmp(found, wanted) != 0))
			continue;
		snprintf(digest, TH_DIGEST_TEXT, "%s", found);
		snprintf(type, 128, "%s", media ? media : "application/json");
		return true;
	}
	if (!th_digest_valid(wanted) || !has_blob(layout, name, wanted))
		return false;
	snprintf(digest, TH_DIGEST_TEXT, "%s", wanted);
	return read_type(layout, wanted, type);
}

bool layout_find(struct layout *layout, const char *name, const char *wanted,
	char digest[TH_DIGEST_TEXT], char type[128])
{
	bool found;

	pthread_mutex_lock(&layout->mutex);
	found = find(layout, name, wanted, digest, type);
	pthread_mutex_unlock(&layout->mutex);
	return found;
}

static int compare(const void *a, const void *b)
{
	return strcmp(*(char *const *)a, *(char *const *)b);
}

static void sort(struct th_strings *list)
{
	if (list->count)
		qsort(list->items, list->count, sizeof(*list->items), compare);
}

bool layout_tags(
	struct layout *layout, const char *name, struct th_strings *tags)
{
	json_t *item;
	size_t i;

	pthread_mutex_lock(&layout->mutex);
	json_array_foreach(json_object_get(layout->index, "manifests"), i, item)
	{
		const char *tag = tag_of(item, name);

		if (tag && *tag)
			th_strings_add(tags, tag);
	}
	pthread_mutex_unlock(&layout->mutex);
	sort(tags);
	return tags->count > 0;
}

void layout_names(struct layout *layout, struct th_strings *names)
{
	const char *name;
	json_t *set;

	pthread_mutex_lock(&layout->mutex);
	json_object_foreach(layout->blobs, name, set)
	{
		th_strings_add(names, name);
	}
	pthread_mutex_unlock(&layout->mutex);
	sort(names);
}

bool layout_has_blob(
	struct layout *layout, const char *name, const char *digest)
{
	bool has;

	pthread_mutex_lock(&layout->mutex);
	has = has_blob(layout, name, digest);
	pthread_mutex_unlock(&layout->mutex);
	return has;
}

int layout_open_blob(struct layout *layout, const char *digest, uint64_t *size)
{
	struct stat st;
	char path[TH_DIGEST_PATH + 16];
	int fd;

	snprintf(path, sizeof(path), "blobs/%s",
		th_digest_path(digest, (char[TH_DIGEST_PATH]){0}));
	fd = openat(layout->folder, path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
	if (fd >= 0 && (fstat(fd, &st) || !S_ISREG(st.st_mode)))
		th_close(&fd);
	if (fd >= 0)
		*size = (uint64_t)st.st_size;
	return fd;
}

void layout_add_blob(
	struct layout *layout, const char *name, const char *digest)
{
	pthread_mutex_lock(&layout->mutex);
	add_blob(layout, name, digest);
	pthread_mutex_unlock(&layout->mutex);
}

/* ---- writing ---- */

static bool is_missing(const struct layout *layout, const char *name,
	const json_t *item, char missing[TH_DIGEST_TEXT])
{
	const char *digest = digest_of(item);

	if (!item || (digest && has_blob(layout, name, digest)))
		return false;
	snprintf(missing, TH_DIGEST_TEXT, "%.71s", digest ? digest : "?");
	return true;
}

static bool find_missing(const struct layout *layout, const char *name,
	const json_t *doc, char missing[TH_DIGEST_TEXT])
{
	static const char *const keys[] = {"layers", "manifests"};
	json_t *item;
	size_t i;

	if (is_missing(layout, name, json_object_get(doc, "config"), missing))
		return true;
	for (int k = 0; k < 2; k++) {
		json_array_foreach(json_object_get(doc, keys[k]), i, item)
		{
			if (is_missing(layout, name, item, missing))
				return true;
		}
	}
	return false;
}

static int enter(struct layout *layout, const char *name, const char *wanted,
	const char *type, size_t len, const char *digest, struct th_error *err)
{
	json_t *list = json_object_get(layout->index, "manifests"), *item;
	char full[700];
	size_t i;

	json_array_foreach(list, i, item)
	{
		const char *tag = tag_of(item, name);

		if (tag && strcmp(tag, wanted) == 0) {
			json_array_remove(list, i);
			break;
		}
	}
	snprintf(full, sizeof(full), "%s:%s", name, wanted);
	json_array_append_new(list,
		json_pack("{s:s s:s s:I s:{s:s}}", "mediaType", type, "digest",
			digest, "size", (json_int_t)len, "annotations",
			REF_NAME, full));
	return th_json_write_file(
		layout->folder, "index.json", layout->index, 0644, false, err);
}

int layout_put_manifest(struct layout *layout, const char *name,
	const char *wanted, const char *type, const char *data, size_t len,
	char digest[TH_DIGEST_TEXT], char missing[TH_DIGEST_TEXT],
	struct th_error *err)
{
	json_t *doc = NULL;
	char path[TH_DIGEST_PATH + 16];
	int rc = -1;

	missing[0] = '\0';
	if (th_hash_once(data, len, digest) ||
		th_json_parse(data, len, "the manifest", &doc, err))
		return -1;
	if (th_digest_valid(wanted) && strcmp(wanted, digest) != 0) {
		json_decref(doc);
		return th_fail(err, TH_USAGE, "the digest does not match");
	}
	pthread_mutex_lock(&layout->mutex);
	if (!find_missing(layout, name, doc, missing)) {
		snprintf(path, sizeof(path), "blobs/%s",
			th_digest_path(digest, (char[TH_DIGEST_PATH]){0}));
		rc = th_file_replace(
			layout->folder, path, data, len, 0644, false, err);
		if (rc == 0)
			learn(layout, name, digest, 0);
		if (rc == 0 && !th_digest_valid(wanted))
			rc = enter(
				layout, name, wanted, type, len, digest, err);
	}
	pthread_mutex_unlock(&layout->mutex);
	json_decref(doc);
	return rc;
}
