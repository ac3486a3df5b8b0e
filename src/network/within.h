/* Work in another network namespace. */
#ifndef TH_NETWORK_WITHIN_H
#define TH_NETWORK_WITHIN_H

#include "base/error.h"

/* Calls work in the network namespace (its descriptor; the caller has the
 * rights over it) and returns what it returns. A thread of its own does it,
 * while this one waits: who has entered a namespace from an outer one may not
 * be allowed back. */
int th_within(int netns, int (*work)(void *arg, struct th_error *err),
	void *arg, struct th_error *err);

#endif
