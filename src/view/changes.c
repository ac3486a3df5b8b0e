#include "view/changes.h"

#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

#include "base/json.h"
#include "base/utf8.h"

static const char *kind_of_file(mode_t mode)
{
	switch (mode & S_IFMT) {
	case S_IFREG:
		return "file";
	case S_IFDIR:
		return "folder";
	case S_IFLNK:
		return "link";
	case S_IFIFO:
		return "pipe";
	case S_IFSOCK:
		return "socket";
	default:
		return "device";
	}
}

/* As it is; what is no UTF-8 cannot be said in JSON, and is made visible. */
static json_t *path_json(const char *path)
{
	char text[TH_LAYER_PATH_MAX + 1];
	struct th_buf visible;
	json_t *made;

	snprintf(text, sizeof(text), "/%s", path);
	made = json_string(text);
	if (made)
		return made;
	th_buf_init(&visible, 16 * sizeof(text));
	th_utf8_visible(text, strlen(text), &visible);
	made = json_string(visible.data ? visible.data : "");
	th_buf_release(&visible);
	return made;
}

static json_t *view_change(const struct th_file_change *change)
{
	static const char *const kinds[] = {"new", "changed", "gone"};
	static const struct {
		int aspect;
		const char *word;
	} aspects[] = {{TH_ASPECT_KIND, "kind"}, {TH_ASPECT_CONTENT, "content"},
		{TH_ASPECT_OWNER, "owner"}, {TH_ASPECT_MODE, "mode"},
		{TH_ASPECT_TIME, "time"}};
	json_t *list = json_array();

	for (size_t i = 0; i < sizeof(aspects) / sizeof(*aspects); i++) {
		if (change->aspects & aspects[i].aspect)
			json_array_append_new(
				list, json_string(aspects[i].word));
	}
	return json_pack("{s:s s:o s:s s:o s:I s:o s:o}", "change",
		kinds[change->kind], "path", path_json(change->path), "kind",
		kind_of_file(change->mode), "what", list, "bytes",
		(json_int_t)change->bytes, "modified",
		th_json_time(change->time_us), "before-bytes",
		change->kind == TH_FILE_CHANGED
			? json_integer((json_int_t)change->before_bytes)
			: json_null());
}

json_t *th_view_changes(const struct th_file_changes *changes)
{
	json_t *list = json_array();

	for (size_t i = 0; i < changes->count; i++)
		json_array_append_new(list, view_change(&changes->list[i]));
	return json_pack("{s:o}", "changes", list);
}

json_t *th_view_hidden(const struct th_hidden *hidden)
{
	json_t *list = json_array();

	for (size_t i = 0; i < hidden->count; i++)
		json_array_append_new(list,
			json_pack("{s:o s:I s:I}", "path",
				path_json(hidden->list[i].path), "layer",
				(json_int_t)hidden->list[i].layer + 1, "bytes",
				(json_int_t)hidden->list[i].bytes));
	return json_pack("{s:o s:I s:I}", "hidden", list, "bytes",
		(json_int_t)hidden->bytes, "layers",
		(json_int_t)hidden->layers);
}
