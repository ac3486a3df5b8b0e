/* unit: what brings containers up at boot. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/shown.h"
#include "cli/verbs.h"

#define SYSTEM_FOLDER "/etc/systemd/system"

struct asking {
	struct invocation *call;
	json_t *wish; /* for the library */
	json_t *about;
	char program[PROGRAM_PATH];
	char folder[PROGRAM_PATH];
	bool user; /* for a user's own manager */
};

/* ---- what is asked for ---- */

static int find_folder(struct asking *asking, struct th_error *err)
{
	const char *config = getenv("XDG_CONFIG_HOME");
	const char *home = doc_text(asking->about, "home");

	if (!asking->user)
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

static int read_asking(struct asking *asking, struct th_error *err)
{
	struct invocation *call = asking->call;
	const char *restarts = option_value(call, "restarts");

	if (check_options(call, err) ||
		th_hull_about(call->hull, &asking->about, err))
		return -1;
	asking->user = doc_flag(asking->about, "unprivileged") ||
		option_given(call, "user");
	if (!own_path(asking->program))
		return th_fail(err, TH_FAILED,
			"this program does not know where it lies");
	if (find_folder(asking, err))
		return -1;
	asking->wish = json_pack("{s:b s:b s:b}", "user", (int)asking->user,
		"recreate", (int)option_given(call, "recreate"), "restarts",
		restarts && strcmp(restarts, "systemd") == 0);
	doc_set(asking->wish, "fetch", option_value(call, "fetch"));
	doc_set(asking->wish, "program", asking->program);
	doc_set(asking->wish, "folder", asking->folder);
	if (call->object_count)
		doc_set(asking->wish, "of", call->objects[0]);
	return 0;
}

/* ---- installing ---- */

/* Without it the user's containers go at log-out, and do not come at boot. */
static void say_lingers(struct asking *asking, const json_t *lingers)
{
	if (json_is_true(lingers) && !asking->call->quiet)
		puts("your services run without a login from now on");
	if (!json_is_string(lingers))
		return;
	fprintf(stderr, "note: %s\n", shown(json_string_value(lingers)));
	fprintf(stderr,
		"  until then they end at log-out and do not start at boot; "
		"ask an administrator for:\n"
		"  loginctl enable-linger %s\n",
		shown(doc_text(asking->about, "user")));
}

static void say_installed(struct asking *asking, const json_t *unit)
{
	const char *manager = asking->user ? "--user " : "";
	const char *file = doc_text(unit, "unit");
	const char *name = doc_text(unit, "name");

	if (asking->call->quiet)
		return;
	printf("installed %s in %s, and enabled it\n", file,
		shown(asking->folder));
	if (doc_flag(unit, "runs"))
		printf("%s runs outside of it until the next boot; to hand it "
		       "over now:\n  tidyhull stop %s && systemctl %sstart "
		       "%s\n",
			name, name, manager, file);
	else
		printf("it starts at boot; to start it now: systemctl %sstart "
		       "%s\n",
			manager, file);
}

static int install(struct asking *asking, struct th_error *err)
{
	json_t *unit = NULL;

	if (th_unit_place(asking->call->hull, asking->wish, asking->call->yes,
		    &unit, err))
		return -1;
	say_installed(asking, unit);
	say_lingers(asking, json_object_get(unit, "lingers"));
	json_decref(unit);
	return 0;
}

static int uninstall(struct asking *asking, struct th_error *err)
{
	json_t *unit = NULL;

	if (th_unit_take_away(asking->call->hull, asking->wish,
		    asking->call->yes, &unit, err))
		return -1;
	if (!asking->call->quiet)
		printf("removed %s%s\n", doc_text(unit, "unit"),
			doc_flag(unit, "active")
				? "; what it has started runs on"
				: "");
	if (*doc_text(unit, "note"))
		fprintf(stderr, "note: %s; it notices at its next start\n",
			shown(doc_text(unit, "note")));
	json_decref(unit);
	return 0;
}

/* ---- looking ---- */

static void print_plain(const struct asking *asking)
{
	const char *root = th_hull_root(asking->call->hull);

	printf("# a line for `crontab -e`:\n"
	       "@reboot %s start --all-due --quiet --root %s\n"
	       "# or for an init script, when file systems and network are "
	       "up:\n"
	       "%s start --all-due --root %s\n",
		asking->program, root, asking->program, root);
}

static void print_table(const json_t *units)
{
	struct table *table = table_new();
	const json_t *unit;
	size_t i;

	table_column(table, "unit", 0);
	table_column(table, "state", 0);
	table_column(table, "at boot", 0);
	table_column(table, "note", TABLE_BREAK);
	json_array_foreach(units, i, unit)
	{
		const char *state = doc_text(unit, "state");
		const char *enabled = doc_text(unit, "enabled");

		table_row(table);
		table_cell(table, "bold", "%s", doc_text(unit, "unit"));
		table_cell(table,
			strcmp(state, "active") == 0	       ? "green"
				: strcmp(state, "failed") == 0 ? "red"
							       : NULL,
			"%s", *state ? state : "unknown");
		table_cell(table, NULL, "%s",
			strcmp(enabled, "enabled") == 0 ? "yes"
				: *enabled		? enabled
							: "unknown");
		table_cell(table, NULL, "%s",
			doc_flag(unit, "edited") ? "edited since it was written"
						 : "");
	}
	table_print(table);
}

static int list_units(struct asking *asking, struct th_error *err)
{
	const struct invocation *call = asking->call;
	json_t *doc = NULL;

	if (th_unit_list(call->hull, asking->wish, &doc, err))
		return -1;
	if (call->json)
		print_json(json_pack(
			"{s:O}", "units", json_object_get(doc, "units")));
	else if (doc_count(doc, "units"))
		print_table(doc_part(doc, "units"));
	else if (!call->quiet)
		printf("no unit is installed in %s; for one: tidyhull unit "
		       "CONTAINER --install\n",
			shown(asking->folder));
	if (*doc_text(doc, "note") && !call->json)
		say_note(doc_text(doc, "note"));
	json_decref(doc);
	return 0;
}

static int print_unit(struct asking *asking, struct th_error *err)
{
	json_t *unit = NULL;

	if (th_unit_show(asking->call->hull, asking->wish, &unit, err))
		return -1;
	fputs(doc_text(unit, "text"), stdout);
	json_decref(unit);
	return 0;
}

static int none_given(struct th_error *err)
{
	th_fail(err, TH_USAGE, "unit: no container given");
	return th_hint(err,
		"give its name, or --all-due for all with a restart policy");
}

static int answer(struct asking *asking, struct th_error *err)
{
	const struct invocation *call = asking->call;
	bool installs = option_given(call, "install");
	bool removes = option_given(call, "remove");

	if (option_given(call, "plain")) {
		print_plain(asking);
		return 0;
	}
	if (!call->object_count && !option_given(call, "all-due"))
		return installs || removes ? none_given(err)
					   : list_units(asking, err);
	return installs	  ? install(asking, err)
		: removes ? uninstall(asking, err)
			  : print_unit(asking, err);
}

static int run(struct invocation *call)
{
	struct asking asking = {.call = call};
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (read_asking(&asking, &err) || answer(&asking, &err))
		code = say_error(&err);
	json_decref(asking.wish);
	json_decref(asking.about);
	return code;
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
	.called = "service systemd cron enable autostart systemctl",
	.takes = "container",
	.summary = "a systemd unit that brings a container up at boot",
	.usage = "[CONTAINER|GROUP]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
