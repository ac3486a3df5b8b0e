#include "container/shell.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "base/file.h"
#include "base/path.h"
#include "container/image_root.h"

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

char *th_shell_of_container(
	const struct th_context *context, const struct th_container_row *row)
{
	static const char *const names[] = {"bash", "sh"};
	struct th_error ignored = {0}; /* the usual places */
	char *folders = NULL, *found = NULL;
	int root = -1;

	if (th_container_root(context, row, &root, NULL, &ignored) ||
		th_container_env(context, row, "PATH", &folders, &ignored) < 0)
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

const char *th_shell_of_image(const struct th_context *context,
	const char *digest, struct th_error *err)
{
	static const char *const paths[] = {"/bin/bash", "/usr/bin/bash",
		"/usr/local/bin/bash", "/bin/sh", "/usr/bin/sh",
		"/usr/local/bin/sh"};
	const char *found = NULL;
	struct th_image_root root;

	if (th_image_root_open(context->store, digest, &root, err))
		return NULL;
	for (size_t i = 0; !found && i < sizeof(paths) / sizeof(*paths); i++) {
		if (view_has_program(&root, paths[i]))
			found = paths[i];
	}
	th_image_root_release(&root);
	return found;
}
