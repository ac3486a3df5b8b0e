#include "registry/logins.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"

#define FILE_MAX (1u << 20)

static int add(struct th_logins *logins, const char *host, const char *user,
	const char *password, struct th_error *err)
{
	struct th_login *list =
		realloc(logins->list, (logins->count + 1) * sizeof(*list));
	struct th_login *made;

	if (!list)
		return th_fail_memory(err);
	logins->list = list;
	made = &list[logins->count++];
	made->host = strdup(host);
	made->user = strdup(user);
	made->password = strdup(password);
	if (!made->host || !made->user || !made->password)
		return th_fail_memory(err);
	return 0;
}

static void drop(struct th_logins *logins, size_t number)
{
	struct th_login *login = &logins->list[number];

	free(login->host);
	free(login->user);
	if (login->password)
		explicit_bzero(login->password, strlen(login->password));
	free(login->password);
	logins->count--;
	memmove(login, login + 1, (logins->count - number) * sizeof(*login));
}

void th_logins_release(struct th_logins *logins)
{
	while (logins->count)
		drop(logins, logins->count - 1);
	free(logins->list);
	logins->list = NULL;
}

const struct th_login *th_logins_find(
	const struct th_logins *logins, const char *host)
{
	for (size_t i = 0; logins && i < logins->count; i++) {
		if (strcmp(logins->list[i].host, host) == 0)
			return &logins->list[i];
	}
	return NULL;
}

static int check_mode(const char *path, struct th_error *err)
{
	struct stat st;

	if (stat(path, &st))
		return errno == ENOENT || errno == ENOTDIR
			? 0
			: th_fail_sys(err, TH_FAILED, errno, "cannot read %s",
				  path);
	if (st.st_mode & 077) {
		th_fail(err, TH_FAILED,
			"%s contains passwords, but others can read it", path);
		return th_hint(err, "chmod 600 %s", path);
	}
	return 0;
}

static int take_login(const json_t *item, const char *path,
	struct th_logins *logins, struct th_error *err)
{
	const char *host, *user, *password;

	if (!json_is_object(item))
		return th_fail(
			err, TH_FAILED, "%s: a login is not an object", path);
	if (th_json_string(item, "host", path, &host, err) < 0 ||
		th_json_string(item, "user", path, &user, err) < 0 ||
		th_json_string(item, "password", path, &password, err) < 0)
		return -1;
	if (!host || !user || !password)
		return th_fail(err, TH_FAILED,
			"%s: a login needs host, user and password", path);
	return add(logins, host, user, password, err);
}

int th_logins_read(
	const char *path, struct th_logins *logins, struct th_error *err)
{
	json_t *doc = NULL, *list = NULL, *item;
	size_t i;
	int rc;

	memset(logins, 0, sizeof(*logins));
	if (check_mode(path, err))
		return -1;
	rc = th_json_read_file(AT_FDCWD, path, FILE_MAX, &doc, err);
	if (rc <= 0)
		return rc;
	rc = th_json_array(doc, "logins", path, &list, err) < 0 ? -1 : 0;
	json_array_foreach(list, i, item)
	{
		if (rc == 0)
			rc = take_login(item, path, logins, err);
	}
	json_decref(doc);
	if (rc)
		th_logins_release(logins);
	return rc;
}

static int write_file(
	const char *path, const struct th_logins *logins, struct th_error *err)
{
	json_t *list = json_array(), *doc;
	int rc;

	for (size_t i = 0; i < logins->count; i++)
		json_array_append_new(list,
			json_pack("{s:s s:s s:s}", "host", logins->list[i].host,
				"user", logins->list[i].user, "password",
				logins->list[i].password));
	doc = json_pack("{s:i s:o}", "version", 1, "logins", list);
	rc = doc ? th_json_write_file(AT_FDCWD, path, doc, 0600, true, err)
		 : th_fail_memory(err);
	json_decref(doc);
	return rc;
}

/* Two commands at once must not lose each other's change: the folder is
 * locked meanwhile. */
static int lock_folder(const char *path, struct th_error *err)
{
	char *folder = strdup(path), *slash;
	int fd = -1;

	if (!folder)
		return th_fail_memory(err);
	slash = strrchr(folder, '/');
	if (slash && slash != folder)
		*slash = '\0';
	if (th_dir_make(folder, 0700, err) == 0) {
		fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
		if (fd < 0 || flock(fd, LOCK_EX)) {
			th_fail_sys(err, TH_FAILED, errno, "cannot lock %s",
				folder);
			th_close(&fd);
		}
	}
	free(folder);
	return fd;
}

static bool drop_host(struct th_logins *logins, const char *host)
{
	for (size_t i = 0; i < logins->count; i++) {
		if (strcmp(logins->list[i].host, host) == 0) {
			drop(logins, i);
			return true;
		}
	}
	return false;
}

int th_logins_keep(const char *path, const char *host, const char *user,
	const char *password, struct th_error *err)
{
	struct th_logins logins = {0};
	int lock = lock_folder(path, err);
	int rc = -1;

	if (lock < 0)
		return -1;
	if (th_logins_read(path, &logins, err) == 0) {
		drop_host(&logins, host);
		rc = add(&logins, host, user, password, err);
	}
	if (rc == 0)
		rc = write_file(path, &logins, err);
	th_logins_release(&logins);
	th_close(&lock);
	return rc;
}

int th_logins_forget(const char *path, const char *host, struct th_error *err)
{
	struct th_logins logins = {0};
	int lock, rc = -1;

	if (access(path, F_OK))
		return 0;
	lock = lock_folder(path, err);
	if (lock < 0)
		return -1;
	if (th_logins_read(path, &logins, err) == 0) {
		rc = drop_host(&logins, host);
		if (rc && write_file(path, &logins, err))
			rc = -1;
	}
	th_logins_release(&logins);
	th_close(&lock);
	return rc;
}
