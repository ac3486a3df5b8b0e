/* What the files of the packet filter share (nf_tables over netlink). */
#ifndef TH_NETWORK_FILTER_PARTS_H
#define TH_NETWORK_FILTER_PARTS_H

#include <stdbool.h>

#include "network/netlink.h"

/* Published ports, by the host's address where they are bound to one. */
struct filter_map {
	const char *name;
	bool six, any;
	/* Of its keys and values, for the kernel and for those who list it. */
	uint32_t key_type, key_len, data_type, data_len;
};

#define FILTER_MAPS 4
extern const struct filter_map filter_maps[FILTER_MAPS];

/* A message about a table of the family (NFPROTO_INET, ...). */
void filter_begin(
	struct th_netlink *batch, uint8_t family, int type, int flags);
/* The begin and the end of what is done all at once. */
void filter_bracket(struct th_netlink *batch, int type);
void filter_put_map(struct th_netlink *batch, const char *table, int number);

#endif
