/* The images of a group: built by recipes, or pulled. */
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "cli/group_parts.h"
#include "cli/programs.h"
#include "container/image_choice.h"

/* The build is a command of its own; its progress is shown as ever. */
static int run_build(struct launching *launching, const char *recipe,
	struct th_buf *answer, struct th_error *err)
{
	struct invocation *call = launching->call;
	char own[PROGRAM_PATH];
	const char *words[10] = {own, "build", recipe, "--json", "--root",
		call->hull.root, NULL};
	int out[2], status = 0, count = 6, rc;
	pid_t pid;

	if (call->hull.config_path) {
		words[count++] = "--config";
		words[count++] = call->hull.config_path;
	}
	if (!own_path(own) || pipe(out))
		return th_fail_sys(err, TH_FAILED, errno, "cannot run a build");
	fflush(stdout);
	pid = fork();
	if (pid == 0) {
		dup2(out[1], 1);
		close(out[0]);
		close(out[1]);
		execv(own, (char *const *)(uintptr_t)words);
		_exit(127);
	}
	close(out[1]);
	rc = th_fd_read(out[0], "a build's answer", answer, err);
	close(out[0]);
	while (pid > 0 && waitpid(pid, &status, 0) < 0 && errno == EINTR)
		;
	if (pid > 0 && rc == 1 && WIFEXITED(status) && WEXITSTATUS(status) == 0)
		return 0;
	th_error_clear(err);
	return th_fail(err, TH_FAILED, "the image of %.200s could not be built",
		recipe);
}

/* Keeps a text of the answer until the end. */
static const char *keep_text(
	struct launching *launching, const json_t *answer, const char *key)
{
	const char *text = json_string_value(json_object_get(answer, key));

	if (!text || !*text || th_strings_add(&launching->digests, text))
		return NULL;
	return launching->digests.items[launching->digests.count - 1];
}

static int build_one(struct launching *launching, const char *recipe,
	struct th_settings *settings, struct th_error *err)
{
	struct th_buf text;
	json_t *answer = NULL;
	const char *name;
	int rc;

	th_buf_init(&text, 65536);
	rc = run_build(launching, recipe, &text, err);
	if (rc == 0)
		rc = th_json_parse(
			text.data, text.len, "a build's answer", &answer, err);
	if (rc == 0) {
		name = keep_text(launching, answer, "name");
		settings->digest = keep_text(launching, answer, "digest");
		settings->image = name ? name : settings->digest;
		settings->image_later = false;
		if (!settings->digest)
			rc = th_fail(err, TH_FAILED,
				"the image of %.200s could not be built",
				recipe);
	}
	json_decref(answer);
	th_buf_release(&text);
	return rc;
}

int build_images(struct launching *launching, struct th_error *err)
{
	const struct th_settings_file *file = launching->file;

	for (size_t i = 0; i < file->container_count; i++) {
		const char *recipe = file->containers[i].build;

		if (recipe &&
			build_one(launching, recipe,
				&launching->makings[i].settings, err))
			return -1;
	}
	return 0;
}

int pull_images(struct launching *launching, struct th_error *err)
{
	for (size_t i = 0; i < launching->file->container_count; i++) {
		struct th_group_item *item = &launching->group.items[i];
		struct th_image_choice choice;
		int rc;

		if (item->settings->fetch != TH_FETCH_ALWAYS &&
			(item->act == TH_GROUP_LEAVE ||
				item->act == TH_GROUP_START))
			continue;
		rc = th_image_choose(&launching->call->hull.context,
			item->settings, &choice, err);
		if (rc == 0)
			rc = th_image_obtain(&launching->call->hull.context,
				item->settings, &choice, err);
		if (rc == 0 &&
			th_strings_add(
				&launching->digests, choice.image.digest))
			rc = th_fail_memory(err);
		th_image_choice_release(&choice);
		if (rc)
			return -1;
		item->settings->digest =
			launching->digests.items[launching->digests.count - 1];
	}
	return 0;
}
