#include "chandler/layout.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"

#define INDEX_MAX (16u << 20)

int layout_open(const char *path, struct layout *layout, struct th_error *err)
{
	json_t *doc = NULL;
	int rc;

	layout->index = NULL;
	layout->folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (layout->folder < 0)
		return th_fail_sys(
			err, TH_NOT_FOUND, errno, "cannot open %s", path);
	rc = th_json_read_file(
		layout->folder, "index.json", INDEX_MAX, &doc, err);
	if (rc == 0)
		th_fail(err, TH_NOT_FOUND, "%s is no OCI image layout", path);
	if (rc != 1) {
		th_close(&layout->folder);
		return -1;
	}
	layout->index = doc;
	return 0;
}

void layout_close(struct layout *layout)
{
	th_close(&layout->folder);
	json_decref(layout->index);
}

/* The tag of an item where it is one of the name. */
static const char *tag_of(const json_t *item, const char *name)
{
	const char *full = json_string_value(
		json_object_get(json_object_get(item, "annotations"),
			"org.opencontainers.image.ref.name"));
	size_t len = strlen(name);

	if (!full || strncmp(full, name, len) != 0 || full[len] != ':')
		return NULL;
	return full + len + 1;
}

bool layout_has_name(const struct layout *layout, const char *name)
{
	json_t *list = json_object_get(layout->index, "manifests"), *item;
	size_t i;

	json_array_foreach(list, i, item)
	{
		if (tag_of(item, name))
			return true;
	}
	return false;
}

/* What a document that only a digest leads to says of itself. */
static bool read_type(
	const struct layout *layout, const char *digest, char type[128])
{
	const char *own;
	struct th_error ignored = {0};
	json_t *doc = NULL;
	char path[128];

	snprintf(path, sizeof(path), "blobs/sha256/%s", th_digest_hex(digest));
	if (th_json_read_file(
		    layout->folder, path, INDEX_MAX, &doc, &ignored) != 1)
		return false;
	own = json_string_value(json_object_get(doc, "mediaType"));
	snprintf(type, 128, "%s", own ? own : "application/json");
	json_decref(doc);
	return true;
}

bool layout_find(const struct layout *layout, const char *name,
	const char *wanted, char digest[TH_DIGEST_TEXT], char type[128])
{
	json_t *list = json_object_get(layout->index, "manifests"), *item;
	size_t i;

	json_array_foreach(list, i, item)
	{
		const char *tag = tag_of(item, name);
		const char *found =
			json_string_value(json_object_get(item, "digest"));
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
	if (!th_digest_valid(wanted) || !layout_has_name(layout, name))
		return false;
	snprintf(digest, TH_DIGEST_TEXT, "%s", wanted);
	return read_type(layout, wanted, type);
}

char *layout_tags(const struct layout *layout, const char *name)
{
	json_t *list = json_object_get(layout->index, "manifests"), *item;
	json_t *tags = json_array(), *doc;
	char *text;
	size_t i;

	json_array_foreach(list, i, item)
	{
		const char *tag = tag_of(item, name);

		if (tag)
			json_array_append_new(tags, json_string(tag));
	}
	if (!json_array_size(tags)) {
		json_decref(tags);
		return NULL;
	}
	doc = json_pack("{s:s s:o}", "name", name, "tags", tags);
	text = json_dumps(doc, JSON_COMPACT);
	json_decref(doc);
	return text;
}

int layout_open_blob(
	const struct layout *layout, const char *digest, uint64_t *size)
{
	struct stat st;
	char path[128];
	int fd;

	snprintf(path, sizeof(path), "blobs/sha256/%s", th_digest_hex(digest));
	fd = openat(layout->folder, path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
	if (fd >= 0 && (fstat(fd, &st) || !S_ISREG(st.st_mode)))
		th_close(&fd);
	if (fd >= 0)
		*size = (uint64_t)st.st_size;
	return fd;
}
