/* What is told of a container beside its settings, as JSON: docs/json.md. Each
 * returns a new reference. */
#ifndef TH_VIEW_LOOK_H
#define TH_VIEW_LOOK_H

#include <jansson.h>

#include "container/history.h"
#include "container/meter.h"
#include "container/processes.h"
#include "container/why.h"

json_t *th_view_why(
	const struct th_container_row *row, const struct th_why *why);
/* cpu_percent: of one CPU, since the reading before; negative without one. */
json_t *th_view_meter(const struct th_container_row *row,
	const struct th_meter *meter, double cpu_percent);
json_t *th_view_process(const struct th_process_row *row);
json_t *th_view_event(const struct th_event_row *row);
/* Bytes that are no text come as base 64. */
json_t *th_view_log_entry(
	const char *container, const struct th_log_entry *entry);

#endif
