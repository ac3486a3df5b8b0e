/* Whether a container is to have user IDs of its own on the host. */
#ifndef TH_CONTAINER_OWN_USERS_H
#define TH_CONTAINER_OWN_USERS_H

#include "container/settings.h"

/* Sets settings->users from --users and from what else is asked for, once all
 * of that has been read. TH_NOT_POSSIBLE where the two do not go together. */
int th_users_choose(struct th_settings *settings, struct th_error *err);

#endif
