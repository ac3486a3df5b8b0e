/* What this process may use in all, by the control groups it is in: whatever
 * limit a container has of its own, it gets no more than that. */
#ifndef TH_SANDBOX_ALLOWANCE_H
#define TH_SANDBOX_ALLOWANCE_H

#include <stdint.h>

/* -1 where nothing is limited. */
struct th_allowance {
	int64_t memory_bytes;
	int64_t cpu_us; /* of each 100000 */
	int64_t processes;
};

/* The least of its group and all above it, in both versions. */
void th_allowance_read(struct th_allowance *allowance);

#endif
