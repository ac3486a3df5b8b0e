/* Control groups that nobody takes away any more: their containers are gone. */
#ifndef TH_CONTAINER_STRAY_GROUPS_H
#define TH_CONTAINER_STRAY_GROUPS_H

#include "container/container.h"

/* Adds the names of those of the store, whose keepers do not live; rows are all
 * containers. Returns how many groups there are, or -1 where the store has no
 * group at all. */
int th_stray_groups(const struct th_context *context,
	const struct th_container_row *rows, size_t count,
	struct th_strings *strays);

/* Takes them away. Costs little where there are none. */
void th_stray_groups_remove(const struct th_context *context,
	const struct th_container_row *rows, size_t count);

#endif
