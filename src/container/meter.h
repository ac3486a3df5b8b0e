/* What a running container uses: of its control groups where they count, and
 * of its processes where they do not. */
#ifndef TH_CONTAINER_METER_H
#define TH_CONTAINER_METER_H

#include "container/container.h"
#include "sandbox/cgroup.h"

struct th_meter {
	int64_t time_us; /* when it was read */
	struct th_usage usage; /* TH_UNSET where nothing tells */
	int64_t received_bytes, sent_bytes; /* of its network; or TH_UNSET */
	bool estimated; /* the sum of the processes alive just now */
};

int th_container_meter(const struct th_context *context,
	const struct th_container_row *row, struct th_meter *meter,
	struct th_error *err);

#endif
