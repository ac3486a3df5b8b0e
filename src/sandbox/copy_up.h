/* What a tmpfs begins with: a copy of the folder that it covers (OCI Runtime
 * Specification, config.md, "tmpcopyup"). For the sandbox module only. */
#ifndef TH_SANDBOX_COPY_UP_H
#define TH_SANDBOX_COPY_UP_H

#include "base/error.h"

/* Copies what is in the folder from (a descriptor, O_PATH will do) into the
 * root of the mount to, with owners, modes and links. */
int th_copy_up(int from, int to, struct th_error *err);

#endif
