/* An image as a registry or a packed file has it, as JSON: docs/json.md. */
#ifndef TH_VIEW_REMOTE_H
#define TH_VIEW_REMOTE_H

#include <jansson.h>

#include "image/resolve.h"

/* A new reference. Where it is an index alone, only what that offers. */
json_t *th_view_resolved(const char *name, const struct th_resolved *resolved);

#endif
