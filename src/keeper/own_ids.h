/* User IDs of the container that are nobody on the host. */
#ifndef TH_KEEPER_OWN_IDS_H
#define TH_KEEPER_OWN_IDS_H

#include <stdint.h>

#include "base/error.h"

struct keeper;

/* -1 and 0 where it has none. */
struct own_ids {
	int lock, space; /* of the range, and its user namespace */
	int store_mount;
	int *mount_fds;
	uint32_t first;
};

void keeper_own_ids_init(struct own_ids *ids);
/* Where the plan says so; and back. */
int keeper_own_users(struct keeper *keeper, struct th_error *err);
void keeper_share_users(struct keeper *keeper);

#endif
