/* Which groups lie below one. */
#include <dirent.h>
#include <stdio.h>
#include <string.h>

#include "sandbox/cgroup.h"
#include "sandbox/cgroup_parts.h"

static int read_children(DIR *dir, struct th_strings *names)
{
	struct dirent *entry;

	while ((entry = readdir(dir))) {
		if (entry->d_type == DT_DIR && entry->d_name[0] != '.' &&
			th_strings_add(names, entry->d_name))
			return -1;
	}
	return 0;
}

/* In hierarchies of version 1 a group may be left in one where it is gone in
 * the others. */
int th_cgroup_children(const char *path, size_t expected,
	struct th_strings *names, size_t *most)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);
	char folder[FOLDER_MAX];
	int found = 0, rc = 0;

	*most = 0;
	for (size_t i = 0; rc == 0 && *most <= expected && i < count; i++) {
		DIR *dir;

		if (!list[i].writable)
			continue;
		group_folder(&list[i], path, folder);
		dir = opendir(folder);
		if (!dir)
			continue;
		found = 1;
		th_strings_release(names);
		rc = read_children(dir, names);
		if (names->count > *most)
			*most = names->count;
		closedir(dir);
	}
	if (*most <= expected)
		th_strings_release(names);
	return rc ? -1 : found;
}
