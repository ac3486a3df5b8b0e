/* unit: what brings containers up at boot. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "group/group.h"
#include "service/installed.h"
#include "service/manager.h"

#define SYSTEM_FOLDER "/etc/systemd/system"

struct asking {
	struct invocation *call;
	struct th_unit unit;
	struct th_object object;
	char program[PROGRAM_PATH];
	char folder[PROGRAM_PATH];
	char name[TH_UNIT_NAME];
};

/* ---- what is asked for ---- */

static int find_folder(struct asking *asking, struct th_error *err)
{
	const char *config = getenv("XDG_CONFIG_HOME");
	const char *home = asking->call->hull.caller.home;

	if (!asking->unit.user)
		snprintf(asking->folder, sizeof(asking->folder), SYSTEM_FOLDER);
	else if (config && *config == '/')
		snprintf(asking->folder, sizeof(asking->folder),
			"%.3000s/systemd/user", config);
	else if (*home)
		snprintf(asking->folder, sizeof(asking->folder),
			"%.3000s/.config/systemd/user", home);
	else
		return th_fail(err, TH_NOT_POSSIBLE,
			"neither $HOME nor $XDG_CONFIG_HOME says where your "
			"units lie");
	return 0;
}

static int check_options(const struct invocation *call, struct th_error *err)
{
	const char *fetch = option_value(call, "fetch");
	const char *restarts = option_value(call, "restarts");
	bool due = option_given(call, "all-due");

	if (option_given(call, "install") && option_given(call, "remove"))
		return th_fail(err, TH_USAGE,
			"--install and --remove contradict each other");
	if (due && call->object_count)
		return th_fail(err, TH_USAGE,
			"--all-due cannot be combined with a container");
	if (due &&
		(option_given(call, "recreate") ||
			option_given(call, "restarts")))
		return th_fail(err, TH_USAGE,
			"--recreate and --restarts are for one container");
	if (fetch && !option_given(call, "recreate"))
		return th_fail(err, TH_USAGE, "--fetch needs --recreate");
	if (fetch && strcmp(fetch, "always") != 0 &&
		strcmp(fetch, "missing") != 0 && strcmp(fetch, "never") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --fetch; use missing, "
			"always or never",
			fetch);
	if (restarts && strcmp(restarts, "systemd") != 0 &&
		strcmp(restarts, "keeper") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --restarts; use keeper or "
			"systemd",
			restarts);
	return 0;
}

/* A group's units need as long as the slowest of its containers. */
static int th_view_group(struct asking *asking, struct th_error *err)
{
	struct th_unit *unit = &asking->unit;
	struct th_container_row *rows = NULL;
	size_t count = 0;
	int rc;

	if (option_given(asking->call, "recreate") ||
		option_given(asking->call, "restarts")) {
		th_fail(err, TH_USAGE,
			"--recreate and --restarts are for one container");
		return th_hint(err,
			"restart --fetch always group:%s takes newer images",
			unit->name);
	}
	rc = th_group_rows(
		&asking->call->hull.context, unit->name, &rows, &count, err);
	for (size_t i = 0; rc == 0 && i < count; i++) {
		int grace_ms = unit->grace_ms;
		bool networked = unit->networked;

		rc = th_unit_describe(
			&asking->call->hull.context, &rows[i], unit, err);
		unit->grace_ms += grace_ms;
		unit->networked |= networked;
	}
	free(rows);
	return rc;
}

static int describe(struct asking *asking, struct th_error *err)
{
	struct invocation *call = asking->call;
	struct th_unit *unit = &asking->unit;

	if (option_given(call, "all-due")) {
		unit->of = TH_UNIT_ALL_DUE;
		unit->networked = true;
		return 0;
	}
	if (th_object_find(&call->hull.context, call->objects[0],
		    TH_KIND_CONTAINER | TH_KIND_GROUP, &asking->object, err))
		return -1;
	if (asking->object.kind == TH_KIND_GROUP) {
		unit->of = TH_UNIT_GROUP;
		unit->name = asking->object.group.name;
		return th_view_group(asking, err);
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
		&call->hull.context, &asking->object.container, unit, err);
}

static int read_asking(struct asking *asking, struct th_error *err)
{
	struct invocation *call = asking->call;
	struct th_unit *unit = &asking->unit;
	const char *restarts = option_value(call, "restarts");

	if (check_options(call, err))
		return -1;
	unit->user =
		call->hull.caller.unprivileged || option_given(call, "user");
	unit->recreate = option_given(call, "recreate");
	unit->fetch = option_value(call, "fetch");
	unit->restarts = restarts && strcmp(restarts, "systemd") == 0;
	unit->root = call->hull.root;
	unit->config = call->hull.config_path;
	unit->program = asking->program;
	if (!own_path(asking->program))
		return th_fail(err, TH_FAILED,
			"this program does not know where it lies");
	return find_folder(asking, err);
}

/* ---- installing ---- */

/* Without it the user's containers go at log-out, and do not come at boot. */
static void ask_to_linger(struct asking *asking)
{
	const struct th_caller *caller = &asking->call->hull.caller;
	struct th_error err = {0};

	if (!asking->unit.user || th_lingers(caller->name))
		return;
	if (th_linger(caller->uid, &err) == 0) {
		if (!asking->call->quiet)
			printf("your services run without a login from now "
			       "on\n");
		return;
	}
	fprintf(stderr, "note: %s\n", shown(err.msg));
	fprintf(stderr,
		"  until then they end at log-out and do not start at boot; "
		"ask an administrator for:\n"
		"  loginctl enable-linger %s\n",
		shown(caller->name));
}

static void say_installed(struct asking *asking)
{
	const char *manager = asking->unit.user ? "--user " : "";
	bool runs = asking->unit.of == TH_UNIT_CONTAINER &&
		asking->object.container.state == TH_STATE_RUNNING;

	if (asking->call->quiet)
		return;
	printf("installed %s in %s, and enabled it\n", asking->name,
		shown(asking->folder));
	if (runs)
		printf("%s runs outside of it until the next boot; to hand it "
		       "over now:\n  tidyhull stop %s && systemctl %sstart "
		       "%s\n",
			asking->unit.name, asking->unit.name, manager,
			asking->name);
	else
		printf("it starts at boot; to start it now: systemctl %sstart "
		       "%s\n",
			manager, asking->name);
}

static int install(struct asking *asking, struct th_error *err)
{
	struct th_manager *manager = NULL;
	char *text = th_unit_text(&asking->unit);
	int rc;

	if (!text)
		return th_fail_memory(err);
	/* Nothing is put where nobody would read it. */
	rc = th_manager_open(asking->unit.user, &manager, err);
	if (rc == 0)
		rc = th_unit_install(asking->folder, asking->name, text,
			asking->call->yes, err);
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
	free(text);
	if (rc == 0) {
		say_installed(asking);
		ask_to_linger(asking);
	}
	return rc;
}

static int uninstall(struct asking *asking, struct th_error *err)
{
	struct th_manager *manager = NULL;
	struct th_error unreached = {0};
	char enabled[TH_UNIT_STATE], active[TH_UNIT_STATE] = "";

	if (th_manager_open(asking->unit.user, &manager, &unreached) == 0)
		th_manager_state(manager, asking->name, enabled, active);
	/* Its link goes while it can still be read where that leads. */
	if (manager)
		th_manager_disable(manager, asking->name, &unreached);
	if (th_unit_uninstall(
		    asking->folder, asking->name, asking->call->yes, err)) {
		th_manager_close(manager);
		return -1;
	}
	if (manager)
		th_manager_reload(manager, &unreached);
	th_manager_close(manager);
	if (!asking->call->quiet)
		printf("removed %s%s\n", asking->name,
			strcmp(active, "active") == 0
				? "; what it has started runs on"
				: "");
	if (unreached.code)
		fprintf(stderr, "note: %s; it notices at its next start\n",
			shown(unreached.msg));
	return 0;
}

/* ---- looking ---- */

static void print_plain(const struct asking *asking)
{
	printf("# a line for `crontab -e`:\n"
	       "@reboot %s start --all-due --quiet --root %s\n"
	       "# or for an init script, when file systems and network are "
	       "up:\n"
	       "%s start --all-due --root %s\n",
		asking->program, asking->unit.root, asking->program,
		asking->unit.root);
}

static void add_file(struct asking *asking, struct th_manager *manager,
	const struct th_unit_file *file, struct table *table, json_t *list)
{
	char enabled[TH_UNIT_STATE] = "", active[TH_UNIT_STATE] = "";

	if (manager)
		th_manager_state(manager, file->name, enabled, active);
	json_array_append_new(list,
		json_pack("{s:s s:s s:o s:o s:b}", "unit", file->name, "path",
			asking->folder, "enabled",
			enabled[0] ? json_string(enabled) : json_null(),
			"state", active[0] ? json_string(active) : json_null(),
			"edited", (int)file->edited));
	table_row(table);
	table_cell(table, "bold", "%s", file->name);
	table_cell(table,
		strcmp(active, "active") == 0		? "green"
			: strcmp(active, "failed") == 0 ? "red"
							: NULL,
		"%s", active[0] ? active : "unknown");
	table_cell(table, NULL, "%s",
		strcmp(enabled, "enabled") == 0 ? "yes"
			: enabled[0]		? enabled
						: "unknown");
	table_cell(table, NULL, "%s",
		file->edited ? "edited since it was written" : "");
}

static int list_units(struct asking *asking, struct th_error *err)
{
	struct th_unit_file *files = NULL;
	struct th_manager *manager = NULL;
	struct th_error unreached = {0};
	struct table *table;
	json_t *list;
	size_t count = 0;

	if (th_unit_files(asking->folder, &files, &count, err))
		return -1;
	if (count)
		th_manager_open(asking->unit.user, &manager, &unreached);
	table = table_new();
	list = json_array();
	table_column(table, "unit", false);
	table_column(table, "state", false);
	table_column(table, "at boot", false);
	table_column(table, "", false);
	for (size_t i = 0; i < count; i++)
		add_file(asking, manager, &files[i], table, list);
	if (asking->call->json || !count)
		table_drop(table);
	else
		table_print(table);
	if (asking->call->json)
		print_json(json_pack("{s:O}", "units", list));
	else if (!count && !asking->call->quiet)
		printf("no unit is installed in %s; for one: tidyhull unit "
		       "CONTAINER --install\n",
			shown(asking->folder));
	if (unreached.code && !asking->call->json)
		fprintf(stderr, "note: %s\n", shown(unreached.msg));
	json_decref(list);
	th_manager_close(manager);
	free(files);
	return 0;
}

static int print_unit(struct asking *asking, struct th_error *err)
{
	char *text = th_unit_text(&asking->unit);

	if (!text)
		return th_fail_memory(err);
	fputs(text, stdout);
	free(text);
	return 0;
}

static int run(struct invocation *call)
{
	struct asking asking = {.call = call};
	bool due = option_given(call, "all-due");
	struct th_error err = {0};
	int rc = read_asking(&asking, &err);

	if (rc == 0 && option_given(call, "plain")) {
		print_plain(&asking);
	} else if (rc == 0 && !call->object_count && !due) {
		if (option_given(call, "install") ||
			option_given(call, "remove"))
			rc = th_fail(
				&err, TH_USAGE, "unit: no container given");
		else
			rc = list_units(&asking, &err);
	} else if (rc == 0 && option_given(call, "remove") && !due) {
		/* Its container may have gone before. */
		bool group = strncmp(call->objects[0], "group:", 6) == 0;

		asking.unit.of = group ? TH_UNIT_GROUP : TH_UNIT_CONTAINER;
		asking.unit.name = call->objects[0] + (group ? 6 : 0);
		th_unit_name(&asking.unit, asking.name);
		rc = uninstall(&asking, &err);
	} else if (rc == 0) {
		rc = describe(&asking, &err);
		th_unit_name(&asking.unit, asking.name);
		if (rc == 0)
			rc = option_given(call, "install")
				? install(&asking, &err)
				: option_given(call, "remove")
				? uninstall(&asking, &err)
				: print_unit(&asking, &err);
	}
	th_object_release(&asking.object);
	th_unit_release(&asking.unit);
	return rc ? say_error(&err) : EXIT_DONE;
}

static const struct option_spec options[] = {
	{"install", NULL, "put it in place, and enable it"},
	{"remove", NULL, "disable it, and take it away"},
	{"user", NULL,
		"for your own manager (always, for other users than root)"},
	{"recreate", NULL, "make the container anew at each start"},
	{"fetch", "WHEN", "with --recreate: missing, always or never"},
	{"restarts", "WHO",
		"who restarts it: keeper (by its policy), or systemd"},
	{"all-due", NULL, "one unit for everything with a restart policy"},
	{"plain", NULL, "without systemd: a line for cron or an init script"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Prints a systemd unit for a container or a group, or installs it.",
	"Without a container, lists those that are installed. The keeper is "
	"the",
	"service's main process: it says when the container runs, or its probe",
	"succeeds. Restarts are left to the keeper, if the container has a",
	"policy, and never to both.", NULL};

static const char *const examples[] = {"tidyhull unit gauge-north",
	"tidyhull unit gauge-north --install",
	"tidyhull unit --all-due --install", "tidyhull unit",
	"tidyhull unit --plain", NULL};

const struct verb verb_unit = {.name = "unit",
	.group = "system",
	.summary = "a systemd unit that brings a container up at boot",
	.usage = "[CONTAINER|GROUP]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
