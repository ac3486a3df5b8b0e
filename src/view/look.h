/* What is told of a container beside its settings, as JSON: docs/json.md. Each
 * returns a new reference. */
#ifndef TH_VIEW_LOOK_H
#define TH_VIEW_LOOK_H

#include <jansson.h>

#include "container/history.h"
#include "container/meter.h"
#include "container/processes.h"
#include "container/why.h"

/* What a program has said: made visible where it is no UTF-8. */
json_t *th_view_said(const char *text);
json_t *th_view_why(
	const struct th_container_row *row, const struct th_why *why);
/* cpu_percent: of one CPU, since the reading before; negative without one. */
json_t *th_view_meter(const struct th_container_row *row,
	const struct th_meter *meter, double cpu_percent);
json_t *th_view_process(const struct th_process_row *row);
json_t *th_view_event(const struct th_event_row *row);

#endif
