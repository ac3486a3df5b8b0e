/* enter: a shell inside, whichever the image has. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "cli/attach.h"
#include "cli/foreground.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/session.h"
#include "cli/verbs.h"
#include "container/image_choice.h"
#include "container/image_root.h"
#include "image/packed.h"
#include "store/machine.h"

#define SHELL_MAX (16u << 20)
/* Where an image gets a shell that it has not. Its name says what it is to be.
 */
#define BROUGHT "/run/brought/sh"

/* What is looked for where the container's own PATH has neither. */
#define USUAL_FOLDERS "/bin:/usr/bin"

static bool is_program(int root, const char *path)
{
	int fd = th_path_open_in_root(root, path + 1, O_PATH, 0);
	struct stat st;
	bool found = fd >= 0 && fstat(fd, &st) == 0 && S_ISREG(st.st_mode) &&
		st.st_mode & 0111;

	th_close(&fd);
	return found;
}

/* The path of the program in one of the folders ("/a:/b"), or NULL; to be
 * freed. */
static char *find_program(int root, const char *folders, const char *name)
{
	while (*folders) {
		size_t len = strcspn(folders, ":");
		char *path = *folders == '/'
			? th_format("%.*s/%s", (int)len, folders, name)
			: NULL;

		if (path && is_program(root, path))
			return path;
		free(path);
		folders += len;
		folders += *folders == ':';
	}
	return NULL;
}

/* A bash, or else an sh, as the container finds them; NULL where it has none.
 * To be freed. */
static char *find_shell(
	struct invocation *call, const struct th_container_row *row)
{
	static const char *const names[] = {"bash", "sh"};
	struct th_error ignored = {0}; /* the usual places */
	char *folders = NULL, *found = NULL;
	int root = -1;

	if (th_container_root(
		    &call->hull.context, row, &root, NULL, &ignored) ||
		th_container_env(&call->hull.context, row, "PATH", &folders,
			&ignored) < 0)
		goto out;
	for (size_t i = 0; !found && i < sizeof(names) / sizeof(*names); i++) {
		if (folders)
			found = find_program(root, folders, names[i]);
		if (!found)
			found = find_program(root, USUAL_FOLDERS, names[i]);
	}
out:
	free(folders);
	th_close(&root);
	return found;
}

/* A copy of our own static shell in memory that nobody can change: what runs
 * it inside never reaches the file outside. */
static int bring_shell(struct th_error *err)
{
	char path[PROGRAM_PATH];
	struct th_buf shell;
	int fd = -1;

	if (!program_path("shell", path))
		snprintf(path, sizeof(path), "/bin/busybox");
	th_buf_init(&shell, SHELL_MAX);
	if (th_file_read(AT_FDCWD, path, &shell, err) != 1) {
		th_error_clear(err);
		th_fail(err, TH_NOT_POSSIBLE,
			"this host has no static shell to lend");
		th_hint(err, "install tidyhull completely, or busybox-static");
		goto out;
	}
	fd = memfd_create("shell", MFD_CLOEXEC | MFD_ALLOW_SEALING);
	if (fd < 0 || th_write_all(fd, shell.data, shell.len) ||
		fcntl(fd, F_ADD_SEALS,
			F_SEAL_WRITE | F_SEAL_GROW | F_SEAL_SHRINK |
				F_SEAL_SEAL)) {
		th_fail_sys(err, TH_FAILED, errno, "cannot copy the shell");
		th_close(&fd);
	}
out:
	th_buf_release(&shell);
	return fd;
}

static int fail_no_shell(
	const struct th_container_row *row, struct th_error *err)
{
	th_fail(err, TH_NO_PROGRAM, "container \"%s\" has no shell", row->name);
	return th_hint(err,
		"tidyhull enter --bring-shell %s lends it one for the session",
		row->name);
}

static int enter(struct invocation *call, struct th_container_row *row,
	struct th_error *err)
{
	bool bring = option_given(call, "bring-shell");
	char *shell = NULL;
	struct th_strings command = {0};
	struct th_exec_options options = {.command = &command,
		.user = option_value(call, "user"),
		.workdir = option_value(call, "workdir"),
		.terminal = isatty(0) && isatty(1),
		.size = attach_size(),
		.stdio = {0, 1, 2},
		.program = -1};
	int code = EXIT_TOOL;

	if (th_act_check(row, TH_ACT_EXEC, err))
		return EXIT_TOOL;
	if (!bring)
		shell = find_shell(call, row);
	if (!bring && !shell) {
		fail_no_shell(row, err);
		return EXIT_NO_PROGRAM;
	}
	if (bring) {
		options.program = bring_shell(err);
		if (options.program < 0)
			return EXIT_TOOL;
	}
	if (th_strings_add(&command, bring ? "sh" : shell))
		th_fail_memory(err);
	else
		code = session_run(call, row, &options, err);
	th_close(&options.program);
	th_strings_release(&command);
	free(shell);
	return code;
}

/* ---- an image ---- */

static bool view_has_program(const struct th_image_root *root, const char *path)
{
	struct th_error ignored = {0}; /* then it has none that could be run */
	struct th_sight found;
	bool is_program;

	if (th_view_find(root->view, path + 1, &found, &ignored) != 1)
		return false;
	is_program = S_ISREG(found.st.st_mode) && found.st.st_mode & 0111;
	th_close(&found.fd);
	return is_program;
}

/* The shell of an image, as its containers will find it; NULL where it has
 * none. */
static const char *shell_of(
	struct invocation *call, const char *image, struct th_error *err)
{
	static const char *const paths[] = {"/bin/bash", "/usr/bin/bash",
		"/usr/local/bin/bash", "/bin/sh", "/usr/bin/sh",
		"/usr/local/bin/sh"};
	const char *found = NULL;
	struct th_image_root root;

	if (th_image_root_open(call->hull.context.store, image, &root, err))
		return NULL;
	for (size_t i = 0; !found && i < sizeof(paths) / sizeof(*paths); i++) {
		if (view_has_program(&root, paths[i]))
			found = paths[i];
	}
	th_image_root_release(&root);
	if (!found) {
		th_fail(err, TH_NO_PROGRAM, "the image has no shell");
		th_hint(err,
			"tidyhull enter --bring-shell %.100s lends it one for "
			"the session",
			call->objects[0]);
	}
	return found;
}

/* Our own static shell, at a place of its own. */
static int mount_shell(struct th_settings *settings, struct th_error *err)
{
	char path[PROGRAM_PATH];

	if (!program_path("shell", path))
		snprintf(path, sizeof(path), "/bin/busybox");
	return th_strings_take(&settings->mount_texts,
		       th_format(BROUGHT "=%s,ro", path))
		? th_fail_memory(err)
		: 0;
}

/* Finds or pulls the image, and its shell. */
static int prepare(
	struct invocation *call, struct making *making, struct th_error *err)
{
	struct th_settings *settings = &making->settings;
	bool bring = option_given(call, "bring-shell");
	const char *shell = BROUGHT;
	struct th_image_choice choice = {0};
	int rc;

	/* One without a command of its own has a shell as well. */
	if (th_strings_add(&settings->command, "sh"))
		return th_fail_memory(err);
	rc = th_image_choose(&call->hull.context, settings, &choice, err);
	if (rc == 0)
		rc = th_image_obtain(
			&call->hull.context, settings, &choice, err);
	if (rc == 0 && bring)
		rc = mount_shell(settings, err);
	else if (rc == 0)
		shell = shell_of(call, choice.image.digest, err);
	th_image_choice_release(&choice);
	if (rc || !shell)
		return -1;
	/* It is here now: nobody is asked once more. */
	if (settings->fetch == TH_FETCH_ALWAYS)
		settings->fetch = TH_FETCH_MISSING;
	settings->entrypoint = shell;
	th_strings_release(&settings->command);
	settings->keep = false;
	return 0;
}

/* A throw-away container with a shell as its program. */
static int enter_image(struct invocation *call, struct th_error *err)
{
	struct th_container_row row;
	struct making making;
	int code;

	if (making_read(call, &making, isatty(0) && isatty(1), err))
		return EXIT_TOOL;
	if (prepare(call, &making, err)) {
		code = err->code == TH_NO_PROGRAM ? EXIT_NO_PROGRAM : EXIT_TOOL;
		making_release(&making);
		return code;
	}
	code = making_create(call, &making, &row);
	if (code == EXIT_DONE)
		code = foreground_run(call, &row, making.settings.terminal);
	else if (code > 0)
		code = EXIT_TOOL;
	making_release(&making);
	return code < 0 ? EXIT_DONE : code;
}

/* What only a container that is made has. */
static int check_options(struct invocation *call, struct th_error *err)
{
	for (int i = 0; i < call->option_count; i++) {
		const char *name = call->options[i].name;

		if (strcmp(name, "bring-shell") == 0 ||
			strcmp(name, "user") == 0 ||
			strcmp(name, "workdir") == 0)
			continue;
		th_fail(err, TH_USAGE,
			"--%s has no effect on a container that is there",
			name);
		return th_hint(err, "without it, or give an image: image:NAME");
	}
	return 0;
}

/* It may have been meant as either. */
static void say_neither(const char *text, struct th_error *err)
{
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg),
		"there is no container \"%.60s\", and %.400s", text, reason);
}

static int run(struct invocation *call)
{
	const char *text = call->objects[0];
	struct th_object object = {0};
	struct th_error err = {0};
	int code = EXIT_TOOL, rc = -1;

	if (strncmp(text, "image:", 6) == 0)
		call->objects[0] += 6;
	else if (!th_packed_is_path(text))
		rc = th_object_find(&call->hull.context, text,
			TH_KIND_CONTAINER, &object, &err);
	if (rc == 0) {
		if (check_options(call, &err) == 0)
			code = enter(call, &object.container, &err);
	} else if (err.code == TH_OK || err.code == TH_NOT_FOUND) {
		th_error_clear(&err);
		code = enter_image(call, &err);
		if (err.code == TH_NOT_FOUND && text == call->objects[0] &&
			!th_packed_is_path(text))
			say_neither(text, &err);
	}
	if (err.code)
		say_error(&err);
	th_object_release(&object);
	return code;
}

static const struct option_spec options[] = {
	{"bring-shell", NULL, "lend a static shell, for this session only"},
	MAKING_OPTIONS, {NULL, NULL, NULL}};

static const char *const text[] = {
	"Uses bash if there is one, otherwise sh. With a container the shell "
	"runs",
	"in it; of an image, a packed file or a folder with a layout a "
	"container is",
	"made for the session and removed afterwards, with the options of run. "
	"Where",
	"there is no shell, --bring-shell lends one: it and its commands (ls, "
	"cat,",
	"ps, wget ...) come from this host. Without a terminal the shell reads",
	"commands from its input.", NULL};

static const char *const examples[] = {"tidyhull enter gauge-north",
	"tidyhull enter --bring-shell --user 0 ledger",
	"tidyhull enter selwick/base --mount /data=./history",
	"tidyhull enter ./almanac.tar", NULL};

const struct verb verb_enter = {.name = "enter",
	.group = "inside",
	.summary = "open a shell in a container, or in an image",
	.usage = "CONTAINER|REF",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_PASSES_CODE,
	.least = 1,
	.most = 1,
	.run = run};
