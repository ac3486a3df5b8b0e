/* Files that come from another image. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "base/file.h"
#include "base/path.h"
#include "build/context_parts.h"

static int view_one(struct th_gathering *gathering, struct th_view *from,
	const char *source, const char *target, struct th_error *err)
{
	struct th_put_entry *entry;
	struct th_sight found;
	int rc = th_view_look(from, source, &found, err);

	if (rc <= 0)
		return rc < 0 ? -1
			      : th_fail(err, TH_NOT_FOUND,
					"the image has no /%.300s", source);
	entry = context_entry(gathering, target, &found.st, true);
	if (entry) {
		entry->view = from;
		entry->source = strdup(source);
	}
	if (!entry || !entry->source)
		rc = th_fail_memory(err);
	else if (S_ISLNK(found.st.st_mode) &&
		context_read_link(entry, found.fd, ""))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot read /%.300s of the image", source);
	else
		rc = S_ISDIR(found.st.st_mode) ? 1 : 0;
	th_close(&found.fd);
	return rc;
}

/* Without recursion: the folders that are left stand in a list. */
static int view_all(struct th_gathering *gathering, struct th_view *from,
	const char *top, const char *target, struct th_error *err)
{
	struct th_strings left = {0}, names = {0};
	size_t top_len = strlen(top);
	int rc = th_strings_add(&left, top) ? th_fail_memory(err) : 0;

	while (rc == 0 && left.count) {
		char *folder = left.items[--left.count];

		rc = th_cancelled(gathering->entries->cancel)
			? th_fail(err, TH_FAILED, "it was interrupted")
			: th_view_names(from, folder, 0, &names, err);
		rc = rc < 0 ? -1 : 0;
		for (size_t i = 0; rc == 0 && i < names.count; i++) {
			char source[TH_LAYER_PATH_MAX], to[TH_LAYER_PATH_MAX];
			struct th_sight there;
			const char *rest;

			snprintf(source, sizeof(source), "%s", folder);
			if (!th_view_join(source, names.items[i]))
				continue;
			rest = source + top_len;
			rest += *rest == '/';
			if (context_leaves_out(gathering->step, rest) ||
				snprintf(to, sizeof(to), "%s%s%s", target,
					*target ? "/" : "",
					rest) >= (int)sizeof(to))
				continue;
			/* Names of what is deleted are among them. */
			rc = th_view_look(from, source, &there, err);
			if (rc <= 0)
				continue;
			th_close(&there.fd);
			rc = view_one(gathering, from, source, to, err);
			if (rc == 1)
				rc = th_strings_add(&left, source)
					? th_fail_memory(err)
					: 0;
		}
		th_strings_release(&names);
		memset(&names, 0, sizeof(names));
		free(folder);
	}
	th_strings_release(&left);
	return rc;
}

int th_gather_view(struct th_gathering *gathering, struct th_view *from,
	const char *path, const struct th_recipe_pair *pair,
	struct th_error *err)
{
	char source[TH_LAYER_PATH_MAX], target[TH_LAYER_PATH_MAX];
	struct th_sight found;
	int rc = th_view_resolve(from, path + strspn(path, "/"), source, err);

	if (rc == 1)
		rc = th_view_look(from, source, &found, err);
	if (rc <= 0)
		return rc < 0 ? -1
			      : th_fail(err, TH_NOT_FOUND,
					"the image has no %.300s", path);
	th_close(&found.fd);
	rc = context_target(gathering, pair->inside,
		pair->into && !S_ISDIR(found.st.st_mode), th_path_last(path),
		target, err);
	if (rc == 0)
		rc = context_check(
			gathering, target, S_ISDIR(found.st.st_mode), err);
	if (rc == 0 && *target)
		rc = view_one(gathering, from, source, target, err);
	if (rc >= 0 && S_ISDIR(found.st.st_mode))
		rc = view_all(gathering, from, source, target, err);
	return rc < 0 ? -1 : 0;
}
