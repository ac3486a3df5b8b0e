/* The operations of the OCI Runtime Specification on bundles. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "container/write_bundle.h"
#include "library/library.h"
#include "runtime/runtime.h"
#include "sandbox/enter.h"

/* Where everybody may make folders, another user can have made it first, to
 * have a say in which processes are signalled. */
static int own_run_time(const th_hull *hull, struct th_error *err)
{
	int fd;

	if (th_dir_make(hull->run_time, 0700, err))
		return -1;
	fd = th_dir_open_private(hull->run_time, err);
	if (fd < 0)
		return -1;
	close(fd);
	return 0;
}

/* What somebody has written there would be believed with root's rights: whom to
 * kill, which groups to remove, which hooks to run. */
static int refuse_foreign(
	const th_hull *hull, const char *dir, struct th_error *err)
{
	struct stat st;

	if (hull->caller.unprivileged || hull->caller.uid != 0 ||
		stat(dir, &st) || st.st_uid == 0)
		return 0;
	th_fail(err, TH_USAGE, "the states in %.300s are not root's", dir);
	return th_hint(err, "act as their user: --of USER");
}

/* To be freed; NULL with an error. */
static char *find_states(
	const th_hull *hull, const char *given, struct th_error *err)
{
	char *dir = given ? strdup(given) : th_format("%s/oci", hull->run_time);

	if (!dir) {
		th_fail_memory(err);
	} else if (given ? refuse_foreign(hull, dir, err)
			 : own_run_time(hull, err)) {
		free(dir);
		dir = NULL;
	}
	return dir;
}

/* The owner of a user namespace has all rights over it from outside; another
 * one of his would have none. */
static int enter_users(const th_hull *hull, bool *entered, struct th_error *err)
{
	const struct th_caller *caller = &hull->caller;
	bool single;

	*entered = caller->unprivileged;
	return *entered ? th_user_enter(caller->name, caller->uid, caller->gid,
				  &single, err)
			: 0;
}

/* What create and run have in common. */
struct making {
	struct th_runtime_options options;
	struct th_strings env;
	char *dir; /* owned */
};

static const char *text_or_none(const json_t *call, const char *key)
{
	const char *text = library_text(call, key);

	return text ? text : "";
}

static int read_call(const th_hull *hull, const char *states,
	const json_t *call, struct making *making, struct th_error *err)
{
	static char *const none[] = {NULL};
	const char *id = library_text(call, "id");
	const char *bundle = library_text(call, "bundle");
	bool entered;

	memset(making, 0, sizeof(*making));
	if (!id || !bundle)
		return th_fail(
			err, TH_USAGE, "a container needs an ID and a bundle");
	if (enter_users(hull, &entered, err))
		return -1;
	making->dir = find_states(hull, states, err);
	if (!making->dir ||
		library_texts(
			json_object_get(call, "env"), "env", &making->env, err))
		return -1;
	making->options = (struct th_runtime_options){.dir = making->dir,
		.id = id,
		.bundle = bundle,
		.pid_file = text_or_none(call, "pid-file"),
		.console_socket = text_or_none(call, "console-socket"),
		.output = text_or_none(call, "output"),
		/* Ended by NULL once there is one. */
		.env = making->env.count ? making->env.items : none,
		.entered = entered};
	return 0;
}

static void making_release(struct making *making)
{
	free(making->dir);
	th_strings_release(&making->env);
}

int th_oci_create(th_hull *hull, const char *states, const json_t *call,
	th_error *warning, th_error *error)
{
	struct th_error own = {0}, unwanted = {0};
	struct making making;
	int rc;

	error = error ? error : &own;
	rc = read_call(hull, states, call, &making, error);
	if (rc == 0)
		rc = th_runtime_create_by(hull->options.keeper, &making.options,
			warning ? warning : &unwanted, error);
	making_release(&making);
	return rc;
}

int th_oci_run(
	th_hull *hull, const char *states, const json_t *call, th_error *error)
{
	struct th_error own = {0};
	struct making making;

	error = error ? error : &own;
	if (read_call(hull, states, call, &making, error) == 0)
		th_runtime_run_by(hull->options.keeper, &making.options,
			text_or_none(call, "log"), error);
	making_release(&making);
	return -1;
}

int th_oci_start(th_hull *hull, const char *states, const char *id,
	th_error *warning, th_error *error)
{
	struct th_error own = {0}, unwanted = {0};
	char *dir;
	int rc;

	error = error ? error : &own;
	dir = find_states(hull, states, error);
	rc = dir ? th_runtime_start(
			   dir, id, warning ? warning : &unwanted, error)
		 : -1;
	free(dir);
	return rc;
}

int th_oci_state(th_hull *hull, const char *states, const char *id,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	char *dir, *text = NULL;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	dir = find_states(hull, states, error);
	rc = dir ? th_runtime_state(dir, id, &text, error) : -1;
	if (rc == 0)
		rc = library_give(json_loads(text, 0, NULL), doc, error);
	free(text);
	free(dir);
	return rc;
}

int th_oci_kill(th_hull *hull, const char *states, const char *id,
	const char *signal, bool all, th_error *error)
{
	struct th_error own = {0};
	int number = th_signal_parse(signal), rc;
	char *dir;

	error = error ? error : &own;
	if (number < 0)
		return th_fail(
			error, TH_USAGE, "\"%.50s\" is not a signal", signal);
	dir = find_states(hull, states, error);
	rc = dir ? th_runtime_kill(dir, id, number, all, error) : -1;
	free(dir);
	return rc;
}

int th_oci_delete(th_hull *hull, const char *states, const char *id, bool force,
	th_error *warning, th_error *error)
{
	struct th_error own = {0}, unwanted = {0};
	char *dir;
	int rc;

	error = error ? error : &own;
	dir = find_states(hull, states, error);
	rc = dir ? th_runtime_delete(
			   dir, id, force, warning ? warning : &unwanted, error)
		 : -1;
	free(dir);
	return rc;
}

int th_oci_features(json_t **doc, th_error *error)
{
	struct th_error own = {0};

	library_begin(doc);
	return library_give(th_runtime_features(), doc, error ? error : &own);
}

void th_oci_log(const char *path, const char *level, const th_error *error)
{
	th_runtime_log(path, level, error);
}

int th_oci_bundle(th_hull *hull, const json_t *settings, const char *folder,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_settings made = {0};
	struct th_problems problems = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = library_settings(settings, &hull->caller, &made, error);
	if (rc == 0)
		rc = th_bundle_write(
			&hull->context, &made, folder, &problems, error);
	if (problems.count)
		rc = library_problems(&problems, doc, error);
	if (rc == 0)
		rc = library_give(json_object(), doc, error);
	th_settings_release(&made);
	return rc;
}
