/* The user namespace that an unprivileged caller works in. For the session
 * module only. */
#ifndef TH_SESSION_ENTER_NETWORKS_H
#define TH_SESSION_ENTER_NETWORKS_H

#include "session/hull.h"

/* Nothing for root, and where only the state is looked at. Otherwise this whole
 * process enters the namespace: that of the pilot, which is started where one
 * may be needed, as an unprivileged user's containers all live in one as long
 * as any of them is on a network. */
int enter_networks(struct th_hull *hull, struct th_error *err);

#endif
