/* What has changed, and what is hidden, as JSON: docs/json.md. Each returns a
 * new reference. */
#ifndef TH_VIEW_CHANGES_H
#define TH_VIEW_CHANGES_H

#include <jansson.h>

#include "build/changes.h"

/* {"changes": [...]} */
json_t *th_view_changes(const struct th_file_changes *changes);
/* {"hidden": [...], "bytes", "layers"} */
json_t *th_view_hidden(const struct th_hidden *hidden);

#endif
