/* What an image's config tells of how its layers were made. */
#ifndef TH_VIEW_HISTORY_H
#define TH_VIEW_HISTORY_H

#include <jansson.h>
#include <stddef.h>

/* The step that made a layer, or null; a new reference. */
json_t *th_view_made_by(const json_t *config, size_t layer);

#endif
