/* What batch work has of its caller inside: identity, home, current folder. */
#ifndef TH_CONTAINER_SHARE_H
#define TH_CONTAINER_SHARE_H

#include <jansson.h>

#include "model/settings.h"
#include "store/store.h"

/* The image's passwd and group files. */
struct th_accounts {
	const char *passwd, *group;
};

/* Changes config as --share says. Files that are mounted go into the
 * container's folder. */
int th_share_apply(struct th_store *store, int folder, const char *id,
	const struct th_settings *settings, const struct th_accounts *accounts,
	json_t *config, struct th_error *err);

#endif
