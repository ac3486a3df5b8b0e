/* Whether a container is to have user IDs of its own on the host. */
#ifndef TH_CONTAINER_OWN_USERS_H
#define TH_CONTAINER_OWN_USERS_H

#include "model/settings.h"

/* Reads all texts, and sets settings->users from --users and from what else is
 * asked for: each one that is wrong, or does not go together with others,
 * becomes a problem. */
void th_settings_check(
	struct th_settings *settings, struct th_problems *problems);

#endif
