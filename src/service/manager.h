/* systemd's managers and logind, over D-Bus (org.freedesktop.systemd1(5),
 * org.freedesktop.login1(5)). */
#ifndef TH_SERVICE_MANAGER_H
#define TH_SERVICE_MANAGER_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/error.h"

struct th_manager; /* opaque */

/* Connects to the system's manager, or to that of this user. TH_NOT_POSSIBLE
 * where there is none, or this build has no D-Bus. */
int th_manager_open(
	bool user, struct th_manager **manager, struct th_error *err);
void th_manager_close(struct th_manager *manager);

/* Reads all unit files anew. */
int th_manager_reload(struct th_manager *manager, struct th_error *err);
int th_manager_enable(
	struct th_manager *manager, const char *unit, struct th_error *err);
int th_manager_disable(
	struct th_manager *manager, const char *unit, struct th_error *err);

#define TH_UNIT_STATE 32
/* "enabled" and the like; "active" and the like. "" where it does not say. */
void th_manager_state(struct th_manager *manager, const char *unit,
	char enabled[TH_UNIT_STATE], char active[TH_UNIT_STATE]);

/* True where the user's manager runs without a login. */
bool th_lingers(const char *user);
/* Asks logind that it does. TH_NOT_POSSIBLE where that is refused. */
int th_linger(uid_t uid, struct th_error *err);

#endif
