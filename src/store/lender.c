#include "store/lender.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include "base/file.h"

static int fail(const struct th_lender *lender, int sys, struct th_error *err)
{
	return th_fail_sys(err, sys == ENOENT ? TH_NOT_FOUND : TH_FAILED, sys,
		"cannot use the unpacked layers in %.300s", lender->folder);
}

/* Each folder on the way: who may write to one may put another tree there. */
static int check_way(const struct th_lender *lender, struct th_error *err)
{
	const char *at = lender->folder;
	char part[4096];
	struct stat st;

	do {
		size_t len;

		at = strchrnul(at + 1, '/');
		len = (size_t)(at - lender->folder);
		snprintf(part, sizeof(part), "%.*s", (int)len, lender->folder);
		if (lstat(part, &st))
			return fail(lender, errno, err);
		if (st.st_uid != 0 && st.st_uid != geteuid()) {
			th_fail(err, TH_NOT_POSSIBLE,
				"the unpacked layers in %.300s are not used: "
				"%.300s belongs to another user (%u)",
				lender->folder, part, st.st_uid);
			return th_hint(err, "it has to belong to root");
		}
		if (st.st_mode & 022 && !(*at && st.st_mode & S_ISVTX)) {
			th_fail(err, TH_NOT_POSSIBLE,
				"the unpacked layers in %.300s are not used: "
				"others may write to %.300s",
				lender->folder, part);
			return th_hint(err, "chmod go-w %.300s", part);
		}
	} while (*at);
	return 0;
}

/* Images have folders that everybody may write to: only the mount keeps one
 * user from changing what another one runs. */
static int check_mount(const struct th_lender *lender, struct th_error *err)
{
	struct statvfs fs;
	int trees =
		openat(lender->fd, "trees", O_PATH | O_DIRECTORY | O_CLOEXEC);
	int rc = trees < 0 ? -1 : fstatvfs(trees, &fs);

	if (trees < 0 && errno == ENOENT)
		rc = th_fail(err, TH_NOT_FOUND,
			"%.300s has no unpacked layers: there is no trees/ "
			"in it",
			lender->folder);
	else if (rc)
		rc = fail(lender, errno, err);
	else if (!(fs.f_flag & ST_RDONLY)) {
		th_fail(err, TH_NOT_POSSIBLE,
			"the unpacked layers in %.300s are not used: they are "
			"not mounted read-only",
			lender->folder);
		rc = th_hint(err, "mount -o remount,bind,ro,nosuid %.300s",
			lender->folder);
	}
	th_close(&trees);
	return rc;
}

struct th_lender *th_lender_open(const char *folder)
{
	struct th_lender *lender = calloc(1, sizeof(*lender));
	struct th_error *why;
	int sys;

	if (!lender)
		return NULL;
	why = &lender->why;
	lender->fd = -1;
	lender->folder = realpath(folder, NULL);
	sys = errno;
	if (!lender->folder) {
		lender->folder = strdup(folder);
		if (!lender->folder) {
			free(lender);
			return NULL;
		}
		fail(lender, sys, why);
		return lender;
	}
	lender->fd = open(lender->folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (lender->fd < 0)
		fail(lender, errno, why);
	else if (check_way(lender, why) || check_mount(lender, why))
		th_close(&lender->fd);
	return lender;
}

void th_lender_close(struct th_lender *lender)
{
	if (!lender)
		return;
	th_close(&lender->fd);
	free(lender->folder);
	free(lender);
}
