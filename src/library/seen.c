/* What is to be seen of a container, and its files. */
#include <stdlib.h>
#include <string.h>

#include "base/path.h"
#include "container/copy.h"
#include "library/library.h"
#include "view/describe.h"
#include "view/look.h"

int th_container_reason(
	th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct th_why why;
	json_t *doc;

	error = error ? error : &own;
	library_begin(json);
	if (library_container(hull, name, &row, error) ||
		th_why(&hull->context, &row, &why, error))
		return -1;
	doc = th_view_why(&row, &why);
	th_why_release(&why);
	return library_give(doc, json, error);
}

int th_container_events(th_hull *hull, const char *name, int64_t after,
	char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_event_row *rows = NULL;
	struct th_container_row row;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if ((name && library_container(hull, name, &row, error)) ||
		th_state_events(hull->context.store->db, name ? row.id : NULL,
			after, &rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, th_view_event(&rows[i]));
	if (count)
		after = rows[count - 1].number;
	free(rows);
	return library_give(json_pack("{s:o s:I}", "events", list, "last",
				    (json_int_t)after),
		json, error);
}

struct reading {
	bool (*take)(void *owner, int64_t time_us, bool is_error,
		const char *text, size_t bytes);
	void *owner;
};

static bool take_entry(void *owner, const struct th_log_entry *entry)
{
	const struct reading *reading = owner;

	return reading->take(reading->owner, entry->time_us,
		entry->stream == TH_STREAM_ERR, entry->data, entry->len);
}

int th_container_log(th_hull *hull, const char *name, long last,
	bool (*take)(void *owner, int64_t time_us, bool is_error,
		const char *text, size_t bytes),
	void *owner, th_error *error)
{
	struct th_error own = {0};
	struct th_history_options options = TH_HISTORY_ALL;
	struct reading reading = {take, owner};
	struct th_container_row row;

	error = error ? error : &own;
	if (library_container(hull, name, &row, error))
		return -1;
	th_container_record(&hull->context, row.id);
	options.last = last < 0 ? -1 : last;
	return th_history_read(hull->context.store, row.id, &options,
		take_entry, &reading, error);
}

int th_container_usage(
	th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct th_meter meter;

	error = error ? error : &own;
	library_begin(json);
	if (library_container(hull, name, &row, error) ||
		th_container_meter(&hull->context, &row, &meter, error))
		return -1;
	return library_give(th_view_meter(&row, &meter, -1), json, error);
}

int th_container_inside(
	th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_process_row *rows = NULL;
	struct th_container_row row;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if (library_container(hull, name, &row, error) ||
		th_container_processes(
			&hull->context, &row, &rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, th_view_process(&rows[i]));
	free(rows);
	return library_give_list("processes", list, json, error);
}

int th_container_sessions(
	th_hull *hull, const char *name, char **json, th_error *error)
{
	struct th_error own = {0};
	struct th_session_row *rows = NULL;
	struct th_container_row row;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(json);
	if (library_container(hull, name, &row, error) ||
		th_state_sessions(hull->context.store->db, row.id, NULL, &rows,
			&count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, th_view_session(&rows[i]));
	free(rows);
	return library_give_list("sessions", list, json, error);
}

/* ---- files ---- */

static int open_place(th_hull *hull, const char *name, const char *path,
	struct th_place *place, struct th_error *err)
{
	struct th_container_row row;
	char *text;
	int rc;

	memset(place, 0, sizeof(*place));
	place->root = place->lock = -1;
	if (path[0] != '/')
		return th_fail(err, TH_USAGE,
			"\"%.200s\" is not an absolute path", path);
	if (library_container(hull, name, &row, err))
		return -1;
	text = th_format("%s:%s", row.id, path);
	rc = text ? th_place_parse(text, place, err) : th_fail_memory(err);
	free(text);
	if (rc == 0)
		rc = th_place_open(&hull->context, place, err);
	return rc;
}

typedef int archive_work(const struct th_place *place, int descriptor,
	struct th_copy *copy, struct th_error *err);

static int save(const struct th_place *place, int descriptor,
	struct th_copy *copy, struct th_error *err)
{
	return th_copy_to_tar(place, descriptor, copy, err);
}

static int load(const struct th_place *place, int descriptor,
	struct th_copy *copy, struct th_error *err)
{
	return th_copy_from_tar(descriptor, place, copy, err);
}

static int at_place(th_hull *hull, const char *name, const char *path,
	archive_work *work, int descriptor, th_error *error)
{
	struct th_error own = {0};
	struct th_copy copy = {.owner = TH_OWNER_KEEP};
	struct th_place place;
	int rc;

	error = error ? error : &own;
	rc = open_place(hull, name, path, &place, error);
	if (rc == 0)
		rc = work(&place, descriptor, &copy, error);
	th_place_release(&hull->context, &place);
	return rc;
}

int th_container_save(th_hull *hull, const char *name, const char *path,
	int descriptor, th_error *error)
{
	return at_place(hull, name, path, save, descriptor, error);
}

int th_container_load(th_hull *hull, const char *name, const char *path,
	int descriptor, th_error *error)
{
	return at_place(hull, name, path, load, descriptor, error);
}
