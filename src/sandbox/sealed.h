/* Programs of ours that a container must not be able to change: what it could
 * reach of them by /proc/PID/exe lies on a read-only mount. */
#ifndef TH_SANDBOX_SEALED_H
#define TH_SANDBOX_SEALED_H

#include "base/error.h"

/* Opens the program by a read-only mount of its own, to be executed by its
 * descriptor: -1 with an error. Without the right to mount, which also is the
 * right to make a container, it is opened as it is. */
int th_sealed_open(const char *path, struct th_error *err);

#endif
