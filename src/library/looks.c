/* What is to be seen of a container, and its files. */
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "base/path.h"
#include "build/changes.h"
#include "container/copy.h"
#include "container/shell.h"
#include "library/library.h"
#include "store/machine.h"
#include "view/changes.h"
#include "view/describe.h"
#include "view/look.h"

int th_container_reason(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct th_why why;
	json_t *made;

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, name, &row, error) ||
		th_why(&hull->context, &row, &why, error))
		return -1;
	made = th_view_why(&row, &why);
	th_why_release(&why);
	return library_give(made, doc, error);
}

/* One that is gone has left its events. */
static int find_past(th_hull *hull, const char *name, char id[TH_ID_LENGTH + 1],
	struct th_error *err)
{
	struct th_container_row row;
	struct th_error ignored = {0}; /* then the first error */

	if (library_container(hull, name, &row, err) == 0) {
		memcpy(id, row.id, sizeof(row.id));
		return 0;
	}
	if (err->code != TH_NOT_FOUND ||
		th_state_last_named(
			hull->context.store->db, name, id, &ignored) != 1)
		return -1;
	th_error_clear(err);
	return 0;
}

int th_container_events(th_hull *hull, const char *name, int64_t after,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_event_row *rows = NULL;
	char id[TH_ID_LENGTH + 1];
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(doc);
	if ((name && find_past(hull, name, id, error)) ||
		th_state_events(hull->context.store->db, name ? id : NULL,
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
		doc, error);
}

/* ---- what it uses ---- */

static void add_usage(
	th_hull *hull, const struct th_container_row *row, json_t *list)
{
	struct th_error gone = {0}; /* one that ends meanwhile is no failure */
	struct th_meter meter;
	json_t *doc;

	if (th_container_meter(&hull->context, row, &meter, &gone))
		return;
	doc = th_view_meter(row, &meter, -1);
	json_object_set_new(doc, "time-us", json_integer(meter.time_us));
	json_array_append_new(list, doc);
}

int th_container_usage(
	th_hull *hull, const json_t *names, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row *rows = NULL, row;
	json_t *list = json_array();
	const json_t *name;
	size_t count = 0, others, i;
	int rc = 0;

	error = error ? error : &own;
	library_begin(doc);
	if (!names)
		rc = th_container_rows_up(
			&hull->context, &rows, &count, &others, error);
	for (i = 0; i < count; i++) {
		if (rows[i].state == TH_STATE_RUNNING ||
			rows[i].state == TH_STATE_PAUSED)
			add_usage(hull, &rows[i], list);
	}
	free(rows);
	json_array_foreach(names, i, name)
	{
		const char *text = json_string_value(name);

		if (rc == 0)
			rc = library_container(
				hull, text ? text : "", &row, error);
		if (rc == 0 &&
			(row.state == TH_STATE_RUNNING ||
				row.state == TH_STATE_PAUSED))
			add_usage(hull, &row, list);
	}
	if (rc == 0)
		return library_give_list("containers", list, doc, error);
	json_decref(list);
	return -1;
}

int th_container_inside(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_process_row *rows = NULL;
	struct th_container_row row;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, name, &row, error) ||
		th_container_processes(&hull->context, &row, TH_PROCESS_ALL,
			&rows, &count, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, th_view_process(&rows[i]));
	free(rows);
	return library_give(json_pack("{s:s s:s s:o}", "name", row.name, "id",
				    row.id, "processes", list),
		doc, error);
}

int th_container_changes(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	struct th_file_changes changes;
	json_t *made;

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, name, &row, error) ||
		th_changes_of_container(&hull->context, &row, &changes, error))
		return -1;
	made = th_view_changes(&changes);
	th_file_changes_release(&changes);
	return library_give(made, doc, error);
}

int th_container_shell(
	th_hull *hull, const char *name, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_container_row row;
	char *path;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, name, &row, error) ||
		th_act_check(&row, TH_ACT_EXEC, error))
		return -1;
	path = th_shell_of_container(&hull->context, &row);
	if (!path)
		return th_fail(error, TH_NO_PROGRAM,
			"container \"%s\" has no shell", row.name);
	rc = library_give(json_pack("{s:s}", "path", path), doc, error);
	free(path);
	return rc;
}

/* ---- files ---- */

/* "keep", "1000" or "1000:1000". */
static int read_owner(
	const char *text, struct th_copy *copy, struct th_error *err)
{
	char *end;

	if (!text)
		return 0;
	if (strcmp(text, "keep") == 0) {
		copy->owner = TH_OWNER_KEEP;
		return 0;
	}
	copy->owner = TH_OWNER_GIVEN;
	copy->uid = (uid_t)strtoul(text, &end, 10);
	copy->gid = copy->uid;
	if (end != text && *end == ':')
		copy->gid = (gid_t)strtoul(end + 1, &end, 10);
	if (end != text && !*end)
		return 0;
	th_fail(err, TH_USAGE, "\"%.50s\" is not a valid owner", text);
	return th_hint(err, "use keep, or numbers: 1000 or 1000:1000");
}

static int open_both(th_hull *hull, struct th_place *from, struct th_place *to,
	bool one_is_archive, struct th_error *err)
{
	if (!from->container && !to->container) {
		th_fail(err, TH_USAGE, "neither path is in a container");
		return th_hint(err, "write one of them as CONTAINER:/path");
	}
	/* An archive is no place. */
	if (one_is_archive)
		return th_place_open(
			&hull->context, from->container ? from : to, err);
	return th_place_open(&hull->context, from, err) ||
			th_place_open(&hull->context, to, err)
		? -1
		: 0;
}

int th_files_copy(th_hull *hull, const char *from_text, const char *to_text,
	int descriptor, const char *owner, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_place from, to;
	struct th_copy copy = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (read_owner(owner, &copy, error) ||
		th_place_parse(from_text ? from_text : "-", &from, error))
		return -1;
	if (th_place_parse(to_text ? to_text : "-", &to, error)) {
		th_place_release(&hull->context, &from);
		return -1;
	}
	rc = open_both(hull, &from, &to, !from_text || !to_text, error);
	copy.cancel =
		(struct th_cancel){{hull->context.cancel}, hull->context.work};
	th_work_begin(hull->context.work, 0);
	if (rc == 0)
		rc = !to_text ? th_copy_to_tar(&from, descriptor, &copy, error)
			: !from_text
			? th_copy_from_tar(descriptor, &to, &copy, error)
			: th_copy(&from, &to, &copy, error);
	th_work_end(hull->context.work);
	th_place_release(&hull->context, &from);
	th_place_release(&hull->context, &to);
	return rc ? -1
		  : library_give(
			    json_pack("{s:I s:I s:I s:I}", "files",
				    (json_int_t)copy.files, "bytes",
				    (json_int_t)copy.bytes, "skipped",
				    (json_int_t)copy.skipped, "attributes-lost",
				    (json_int_t)copy.attributes_lost),
			    doc, error);
}
