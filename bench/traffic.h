/* Traffic to a server by two ways, one of them the floor. */
#ifndef BENCH_TRAFFIC_H
#define BENCH_TRAFFIC_H

#include <stddef.h>

#define HERE (-1)

/* From where, and to what. */
struct way {
	int netns; /* a network namespace, or HERE */
	const char *address;
	int port;
};

/* Three rows (rate, latency, short connections), with the budgets of their
 * ratios; 0 where nothing is promised. */
void traffic_compare(const char *what, const double budget[3],
	const struct way *our_way, const struct way *floor, size_t rounds);

#endif
