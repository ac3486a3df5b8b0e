/* Users and groups as an image knows them. */
#ifndef TH_CONTAINER_USER_H
#define TH_CONTAINER_USER_H

#include <sys/types.h>

#include "base/buffer.h"
#include "base/error.h"

struct th_user {
	uid_t uid;
	gid_t gid;
	gid_t groups[64]; /* further groups of the user */
	size_t group_count;
	char home[256];
};

/* Resolves "name", "uid", "name:group", "uid:gid" with the image's passwd and
 * group files (their content; "" where there is none). text NULL or empty is
 * root. TH_NOT_FOUND where a name is unknown. */
int th_user_resolve(const char *text, const char *passwd, const char *group,
	struct th_user *user, struct th_error *err);

#endif
