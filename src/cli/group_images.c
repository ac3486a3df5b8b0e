/* The images of a group: built by recipes, or pulled. */
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "cli/doc.h"
#include "cli/group_parts.h"
#include "cli/programs.h"

/* The build is a command of its own; its progress is shown as ever. */
static int run_build(struct launching *launching, const char *recipe,
	struct th_buf *answer, struct th_error *err)
{
	struct invocation *call = launching->call;
	char own[PROGRAM_PATH];
	const char *words[10] = {own, "build", recipe, "--json", "--root",
		th_hull_root(call->hull), NULL};
	int out[2], status = 0, count = 6, rc;
	pid_t pid;

	if (option_value(call, "config")) {
		words[count++] = "--config";
		words[count++] = option_value(call, "config");
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

static int build_one(
	struct launching *launching, json_t *container, struct th_error *err)
{
	const char *recipe = doc_text(container, "build");
	struct th_buf text;
	json_t *answer = NULL;
	int rc;

	th_buf_init(&text, 65536);
	rc = run_build(launching, recipe, &text, err);
	if (rc == 0)
		rc = th_json_parse(
			text.data, text.len, "a build's answer", &answer, err);
	if (rc == 0 && !*doc_text(answer, "digest"))
		rc = th_fail(err, TH_FAILED,
			"the image of %.200s could not be built", recipe);
	if (rc == 0)
		json_object_set(container, "built", answer);
	json_decref(answer);
	th_buf_release(&text);
	return rc;
}

int build_images(struct launching *launching, struct th_error *err)
{
	json_t *container;
	size_t i;

	json_array_foreach(
		doc_part(launching->group, "containers"), i, container)
	{
		if (*doc_text(container, "build") &&
			build_one(launching, container, err))
			return -1;
	}
	return 0;
}
