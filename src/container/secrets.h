/* Secrets that a container is given as files. */
#ifndef TH_CONTAINER_SECRETS_H
#define TH_CONTAINER_SECRETS_H

#include <sys/types.h>

#include "base/error.h"

/* Their values in the container's folder: {"NAME": "VALUE"}. */
#define TH_SECRETS "secrets.json"
#define TH_SECRETS_MAX (16u << 20)
/* Where they are inside. */
#define TH_SECRETS_TARGET "/run/tidyhull"

/* Puts them into a memory mount that is attached to nothing; only the user may
 * read them. *mount_fd is -1 where there are none. */
int th_secrets_mount(
	int folder, uid_t uid, gid_t gid, int *mount_fd, struct th_error *err);

#endif
