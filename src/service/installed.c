#include "service/installed.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"

#define TEXT_MAX (1u << 20)

/* What the file is: 1 with *is, 0 where there is none, -1. */
static int look(int folder, const char *name, enum th_unit_text_is *is,
	struct th_error *err)
{
	struct th_buf text;
	int rc;

	th_buf_init(&text, TEXT_MAX);
	rc = th_file_read_regular(folder, name, &text, err);
	if (rc == 1)
		*is = th_unit_look(text.data);
	th_buf_release(&text);
	return rc;
}

static int check(const char *folder, const char *name, enum th_unit_text_is is,
	bool anyway, struct th_error *err)
{
	if (is == TH_UNIT_OURS || anyway)
		return 0;
	th_fail(err, TH_IN_USE,
		is == TH_UNIT_EDITED
			? "%.200s/%.120s was edited after it was written"
			: "%.200s/%.120s was not written by tidyhull",
		folder, name);
	return th_hint(err, "look at it; --yes goes on without it");
}

int th_unit_install(const char *folder, const char *name, const char *text,
	bool anyway, struct th_error *err)
{
	enum th_unit_text_is is;
	int fd, rc;

	if (th_dir_make(folder, 0755, err))
		return -1;
	fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (fd < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot open %.300s", folder);
	rc = look(fd, name, &is, err);
	if (rc == 1)
		rc = check(folder, name, is, anyway, err);
	if (rc == 0)
		rc = th_file_replace(
			fd, name, text, strlen(text), 0644, true, err);
	th_close(&fd);
	return rc;
}

int th_unit_uninstall(
	const char *folder, const char *name, bool anyway, struct th_error *err)
{
	enum th_unit_text_is is;
	int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC), rc = 0;

	if (fd >= 0)
		rc = look(fd, name, &is, err);
	if (rc == 0) {
		th_close(&fd);
		th_fail(err, TH_NOT_FOUND, "there is no unit %.120s", name);
		return th_hint(err, "tidyhull unit shows all");
	}
	if (rc == 1)
		rc = check(folder, name, is, anyway, err);
	if (rc == 0 && unlinkat(fd, name, 0))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot remove %.200s/%.120s", folder, name);
	th_close(&fd);
	return rc;
}

static int by_name(const void *one, const void *other)
{
	return strcmp(((const struct th_unit_file *)one)->name,
		((const struct th_unit_file *)other)->name);
}

int th_unit_files(const char *folder, struct th_unit_file **files,
	size_t *count, struct th_error *err)
{
	int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	void *list = NULL;

	*files = NULL;
	*count = 0;
	/* No folder: no unit. */
	if (!dir) {
		th_close(&fd);
		return 0;
	}
	while ((entry = readdir(dir))) {
		enum th_unit_text_is is;
		struct th_error ignored = {0}; /* then it is not ours */
		struct th_unit_file *one;

		if (strncmp(entry->d_name, "tidyhull-", 9) != 0 ||
			strlen(entry->d_name) >= TH_UNIT_NAME ||
			look(fd, entry->d_name, &is, &ignored) != 1 ||
			is == TH_UNIT_FOREIGN)
			continue;
		one = th_grow(&list, *count, sizeof(*one));
		if (!one) {
			closedir(dir);
			free(list);
			*count = 0;
			return th_fail_memory(err);
		}
		snprintf(one->name, sizeof(one->name), "%s", entry->d_name);
		one->edited = is == TH_UNIT_EDITED;
		(*count)++;
	}
	closedir(dir);
	*files = list;
	if (*count)
		qsort(list, *count, sizeof(**files), by_name);
	return 0;
}
