/* Units of systemd that bring containers up at boot. */
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "group/group.h"
#include "library/library.h"
#include "service/installed.h"
#include "service/manager.h"

struct asking {
	th_hull *hull;
	struct th_unit unit;
	struct th_object object;
	const char *folder;
	char name[TH_UNIT_NAME];
};

static bool is_set(const json_t *wish, const char *key)
{
	return json_is_true(json_object_get(wish, key));
}

static int read_wish(th_hull *hull, const json_t *wish, struct asking *asking,
	struct th_error *err)
{
	struct th_unit *unit = &asking->unit;

	memset(asking, 0, sizeof(*asking));
	asking->hull = hull;
	asking->folder = library_text(wish, "folder");
	unit->user = is_set(wish, "user");
	unit->recreate = is_set(wish, "recreate");
	unit->fetch = library_text(wish, "fetch");
	unit->restarts = is_set(wish, "restarts");
	unit->root = hull->root;
	unit->config = hull->config_path;
	unit->program = library_text(wish, "program");
	if (!unit->program || !asking->folder)
		return th_fail(
			err, TH_USAGE, "a unit needs a program and a folder");
	return 0;
}

/* A group's units need as long as the slowest of its containers. */
static int describe_group(struct asking *asking, struct th_error *err)
{
	struct th_unit *unit = &asking->unit;
	const struct th_context *context = &asking->hull->context;
	struct th_container_row *rows = NULL;
	size_t count = 0;
	int rc;

	if (unit->recreate || unit->restarts) {
		th_fail(err, TH_USAGE,
			"--recreate and --restarts are for one container");
		return th_hint(err,
			"restart --fetch always group:%s takes newer images",
			unit->name);
	}
	rc = th_group_rows(context, unit->name, &rows, &count, err);
	for (size_t i = 0; rc == 0 && i < count; i++) {
		int grace_ms = unit->grace_ms;
		bool networked = unit->networked;

		rc = th_unit_describe(context, &rows[i], unit, err);
		unit->grace_ms += grace_ms;
		unit->networked |= networked;
	}
	free(rows);
	return rc;
}

static int describe(
	const json_t *wish, struct asking *asking, struct th_error *err)
{
	struct th_unit *unit = &asking->unit;
	const char *of = library_text(wish, "of");

	if (!of) {
		unit->of = TH_UNIT_ALL_DUE;
		unit->networked = true;
		return 0;
	}
	if (th_object_find(&asking->hull->context, of,
		    TH_KIND_CONTAINER | TH_KIND_GROUP, &asking->object, err))
		return -1;
	if (asking->object.kind == TH_KIND_GROUP) {
		unit->of = TH_UNIT_GROUP;
		unit->name = asking->object.group.name;
		return describe_group(asking, err);
	}
	unit->name = asking->object.container.name;
	if (!asking->object.container.keep) {
		th_fail(err, TH_FAILED,
			"container \"%s\" goes when it ends, so no unit can "
			"start it again",
			unit->name);
		return th_hint(
			err, "run keeps a container that is given --keep");
	}
	return th_unit_describe(
		&asking->hull->context, &asking->object.container, unit, err);
}

static void asking_release(struct asking *asking)
{
	th_object_release(&asking->object);
	th_unit_release(&asking->unit);
}

static json_t *view(const struct asking *asking, const char *text)
{
	static const char *const kinds[] = {"container", "group", "all-due"};
	const struct th_unit *unit = &asking->unit;

	return json_pack("{s:s s:s s:s? s:s s:b}", "unit", asking->name, "text",
		text, "name", unit->name, "kind", kinds[unit->of], "runs",
		unit->of == TH_UNIT_CONTAINER &&
			asking->object.container.state == TH_STATE_RUNNING);
}

/* The unit that is wished for, with its name, and its text. */
static int compose(th_hull *hull, const json_t *wish, struct asking *asking,
	char **text, struct th_error *err)
{
	if (read_wish(hull, wish, asking, err) || describe(wish, asking, err))
		return -1;
	th_unit_name(&asking->unit, asking->name);
	*text = th_unit_text(&asking->unit);
	return *text ? 0 : th_fail_memory(err);
}

int th_unit_show(
	th_hull *hull, const json_t *wish, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct asking asking;
	char *text = NULL;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = compose(hull, wish, &asking, &text, error);
	if (rc == 0)
		rc = library_give(view(&asking, text), doc, error);
	free(text);
	asking_release(&asking);
	return rc;
}

/* Without it the user's containers go at log-out, and do not come at boot. */
static json_t *ask_to_linger(const struct asking *asking)
{
	const struct th_caller *caller = &asking->hull->caller;
	struct th_error err = {0};

	if (!asking->unit.user || th_lingers(caller->name))
		return json_null();
	return th_linger(caller->uid, &err) == 0 ? json_true()
						 : th_view_said(err.msg);
}

static int place_it(struct asking *asking, const char *text, bool anyway,
	struct th_error *err)
{
	struct th_manager *manager = NULL;
	int rc;

	/* Nothing is put where nobody would read it. */
	rc = th_manager_open(asking->unit.user, &manager, err);
	if (rc == 0)
		rc = th_unit_install(
			asking->folder, asking->name, text, anyway, err);
	if (rc == 0 &&
		(th_manager_reload(manager, err) ||
			th_manager_enable(manager, asking->name, err))) {
		struct th_error ignored = {0}; /* the first one counts */

		/* Half an installation is none. */
		th_unit_uninstall(asking->folder, asking->name, true, &ignored);
		th_manager_reload(manager, &ignored);
		rc = -1;
	}
	th_manager_close(manager);
	return rc;
}

int th_unit_place(th_hull *hull, const json_t *wish, bool anyway, json_t **doc,
	th_error *error)
{
	struct th_error own = {0};
	struct asking asking;
	char *text = NULL;
	json_t *made;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = compose(hull, wish, &asking, &text, error);
	if (rc == 0)
		rc = place_it(&asking, text, anyway, error);
	if (rc == 0) {
		made = view(&asking, text);
		json_object_set_new(made, "lingers", ask_to_linger(&asking));
		rc = library_give(made, doc, error);
	}
	free(text);
	asking_release(&asking);
	return rc;
}

/* Its container may have gone before. */
static void name_it(const json_t *wish, struct asking *asking)
{
	const char *of = library_text(wish, "of");
	bool group = of && strncmp(of, "group:", 6) == 0;

	asking->unit.of = !of ? TH_UNIT_ALL_DUE
		: group	      ? TH_UNIT_GROUP
			      : TH_UNIT_CONTAINER;
	asking->unit.name = group ? of + 6 : of;
	th_unit_name(&asking->unit, asking->name);
}

int th_unit_take_away(th_hull *hull, const json_t *wish, bool anyway,
	json_t **doc, th_error *error)
{
	struct th_manager *manager = NULL;
	struct th_error own = {0}, unreached = {0};
	char enabled[TH_UNIT_STATE], active[TH_UNIT_STATE] = "";
	struct asking asking;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	if (read_wish(hull, wish, &asking, error))
		return -1;
	name_it(wish, &asking);
	if (th_manager_open(asking.unit.user, &manager, &unreached) == 0)
		th_manager_state(manager, asking.name, enabled, active);
	/* Its link goes while it can still be read where that leads. */
	if (manager)
		th_manager_disable(manager, asking.name, &unreached);
	rc = th_unit_uninstall(asking.folder, asking.name, anyway, error);
	if (rc == 0 && manager)
		th_manager_reload(manager, &unreached);
	th_manager_close(manager);
	asking_release(&asking);
	if (rc)
		return -1;
	return library_give(
		json_pack("{s:s s:b s:o}", "unit", asking.name, "active",
			strcmp(active, "active") == 0, "note",
			unreached.code ? th_view_said(unreached.msg)
				       : json_null()),
		doc, error);
}

static json_t *view_file(const struct asking *asking,
	struct th_manager *manager, const struct th_unit_file *file)
{
	char enabled[TH_UNIT_STATE] = "", active[TH_UNIT_STATE] = "";

	if (manager)
		th_manager_state(manager, file->name, enabled, active);
	return json_pack("{s:s s:s s:o s:o s:b}", "unit", file->name, "path",
		asking->folder, "enabled", th_json_word(enabled), "state",
		th_json_word(active), "edited", (int)file->edited);
}

int th_unit_list(
	th_hull *hull, const json_t *wish, json_t **doc, th_error *error)
{
	struct th_error own = {0}, unreached = {0};
	struct th_unit_file *files = NULL;
	struct th_manager *manager = NULL;
	struct asking asking;
	json_t *list;
	size_t count = 0;

	error = error ? error : &own;
	library_begin(doc);
	if (read_wish(hull, wish, &asking, error) ||
		th_unit_files(asking.folder, &files, &count, error))
		return -1;
	if (count)
		th_manager_open(asking.unit.user, &manager, &unreached);
	list = json_array();
	for (size_t i = 0; i < count; i++)
		json_array_append_new(
			list, view_file(&asking, manager, &files[i]));
	th_manager_close(manager);
	free(files);
	return library_give(json_pack("{s:o s:o}", "units", list, "note",
				    unreached.code ? th_view_said(unreached.msg)
						   : json_null()),
		doc, error);
}
