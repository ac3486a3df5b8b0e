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
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/session.h"
#include "cli/verbs.h"
#include "store/machine.h"

#define SHELL_MAX (16u << 20)

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
	struct th_error ignored = {0};
	char *folders = NULL, *found = NULL;
	int root = -1;

	if (th_container_root(&call->context, row, &root, NULL, &ignored) ||
		th_container_env(
			&call->context, row, "PATH", &folders, &ignored) < 0)
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

static int run(struct invocation *call)
{
	struct th_object object = {0};
	struct th_error err = {0};
	int code = EXIT_TOOL;

	if (th_object_find(&call->context, call->objects[0], TH_KIND_CONTAINER,
		    &object, &err) == 0)
		code = enter(call, &object.container, &err);
	if (err.code)
		say_error(&err);
	th_object_release(&object);
	return code;
}

static const struct option_spec options[] = {
	{"bring-shell", NULL, "lend a static shell, for this session only"},
	{"user", "USER", "run as another user"},
	{"workdir", "DIR", "start in another folder"}, {NULL, NULL, NULL}};

static const char *const text[] = {"Uses bash if the container has it, "
				   "otherwise sh. An image without a shell",
	"can be entered with --bring-shell: the shell and its commands (ls, "
	"cat,",
	"ps, wget ...) come from this host, and nothing is written to the",
	"container. Without a terminal the shell reads commands from its "
	"input.",
	NULL};

static const char *const examples[] = {"tidyhull enter gauge-north",
	"tidyhull enter --bring-shell --user 0 ledger", NULL};

const struct verb verb_enter = {.name = "enter",
	.group = "inside",
	.summary = "open a shell in a running container",
	.usage = "CONTAINER",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_PASSES_CODE,
	.least = 1,
	.most = 1,
	.run = run};
