/* enter: a shell inside, whichever the image has. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "cli/attach.h"
#include "cli/doc.h"
#include "cli/foreground.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/session.h"
#include "cli/verbs.h"

#define SHELL_MAX (16u << 20)
/* Where an image gets a shell that it has not. Its name says what it is to be.
 */
#define BROUGHT "/run/brought/sh"

/* ---- a container ---- */

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
		th_fail_write(err, errno, "cannot copy the shell");
		th_close(&fd);
	}
out:
	th_buf_release(&shell);
	return fd;
}

static int enter(
	struct invocation *call, const json_t *container, struct th_error *err)
{
	const char *name = doc_text(container, "name");
	bool bring = option_given(call, "bring-shell");
	struct th_talk_command command = {.terminal = isatty(0) && isatty(1),
		.size = attach_size(),
		.streams = {0, 1, 2},
		.program = -1};
	json_t *shell = NULL, *words;
	int code = EXIT_TOOL;

	if (!bring &&
		th_container_shell(
			call->hull, doc_text(container, "id"), &shell, err)) {
		if (err->code == TH_NO_PROGRAM)
			th_hint(err,
				"tidyhull enter --bring-shell %s lends it one "
				"for the session",
				name);
		return attach_failure(err);
	}
	if (bring)
		command.program = bring_shell(err);
	words = json_object();
	json_object_set_new(words, "command",
		json_pack("[s]", bring ? "sh" : doc_text(shell, "path")));
	doc_set(words, "user", option_value(call, "user"));
	doc_set(words, "workdir", option_value(call, "workdir"));
	command.words = words;
	if (!bring || command.program >= 0)
		code = session_run(call, name, &command, err);
	th_close(&command.program);
	json_decref(shell);
	json_decref(words);
	return code;
}

/* ---- an image ---- */

/* Our own static shell, at a place of its own. */
static void mount_shell(json_t *settings)
{
	char path[PROGRAM_PATH], text[PROGRAM_PATH + 40];

	if (!program_path("shell", path))
		snprintf(path, sizeof(path), "/bin/busybox");
	snprintf(text, sizeof(text), BROUGHT "=%s,ro", path);
	json_array_append_new(
		doc_part(settings, "mount"), json_string_nocheck(text));
}

/* The shell of an image, as its containers will find it. */
static int find_shell(struct invocation *call, json_t *settings,
	const char *digest, struct th_error *err)
{
	json_t *shell = NULL;
	int rc = th_image_shell(call->hull, digest, &shell, err);

	if (rc == 0)
		doc_set(settings, "entrypoint", doc_text(shell, "path"));
	else if (err->code == TH_NO_PROGRAM)
		th_hint(err,
			"tidyhull enter --bring-shell %.100s lends it one for "
			"the session",
			call->objects[0]);
	json_decref(shell);
	return rc;
}

/* Finds or pulls the image, and its shell. */
static int prepare(
	struct invocation *call, json_t *settings, struct th_error *err)
{
	json_t *image = NULL;
	int rc;

	/* One without a command of its own has a shell as well. */
	json_object_set_new(settings, "command", json_pack("[s]", "sh"));
	rc = th_image_bring(call->hull, settings, &image, err);
	if (rc == 0 && option_given(call, "bring-shell")) {
		mount_shell(settings);
		doc_set(settings, "entrypoint", BROUGHT);
	} else if (rc == 0) {
		rc = find_shell(call, settings, doc_text(image, "digest"), err);
	}
	/* It is here now: nobody is asked once more. */
	if (strcmp(doc_text(settings, "fetch"), "always") == 0)
		json_object_del(settings, "fetch");
	json_object_set_new(settings, "command", json_array());
	json_object_set_new(settings, "keep", json_false());
	json_decref(image);
	return rc;
}

/* A throw-away container with a shell as its program. */
static int enter_image(struct invocation *call, struct th_error *err)
{
	json_t *container = NULL;
	struct making making;
	int code;

	if (making_read(call, &making, isatty(0) && isatty(1), err) ||
		prepare(call, making.settings, err)) {
		making_release(&making);
		return attach_failure(err);
	}
	code = making_create(call, &making, &container);
	if (code == EXIT_DONE)
		code = foreground_run(call, container, making.terminal);
	else if (code > 0)
		code = EXIT_TOOL;
	making_release(&making);
	json_decref(container);
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

/* It may have been meant as either; a container that is nearly called so,
 * rather as that. */
static void say_neither(
	const char *text, const char *near, struct th_error *err)
{
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg),
		"there is no container \"%.60s\", and %.400s", text, reason);
	if (strncmp(near, "did you mean", 12) == 0) {
		err->hint[0] = '\0';
		th_hint(err, "%.200s", near);
	}
}

static int run(struct invocation *call)
{
	const char *text = call->objects[0];
	json_t *container = NULL;
	struct th_error err = {0};
	char near[sizeof(err.hint)];
	int code = EXIT_TOOL, rc = -1;

	if (strncmp(text, "image:", 6) == 0)
		call->objects[0] += 6;
	else if (!th_image_is_path(text))
		rc = th_object(call->hull, text, TH_KIND_CONTAINER, TH_BRIEF,
			&container, &err);
	if (rc == 0) {
		if (check_options(call, &err) == 0)
			code = enter(call, container, &err);
	} else if (err.code == TH_OK || err.code == TH_NOT_FOUND) {
		snprintf(near, sizeof(near), "%s", err.hint);
		th_error_clear(&err);
		code = enter_image(call, &err);
		if (err.code == TH_NOT_FOUND && text == call->objects[0] &&
			!th_image_is_path(text))
			say_neither(text, near, &err);
	}
	if (err.code)
		say_error(&err);
	json_decref(container);
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
	.called = "shell sh bash ssh console terminal into inside",
	.takes = "running image",
	.summary = "open a shell in a container, or in an image",
	.usage = "CONTAINER|REF",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_PASSES_CODE,
	.least = 1,
	.most = 1,
	.run = run};
