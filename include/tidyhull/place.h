/* What containers share: volumes, networks, groups; and the store itself. */
#ifndef TIDYHULL_PLACE_H
#define TIDYHULL_PLACE_H

#include <stdbool.h>

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* {"volumes": [...]}; one, with who has it; a new one; and away with one that
 * nobody has (TH_IN_USE). */
int th_volumes(th_hull *hull, char **json, th_error *error);
int th_volume(th_hull *hull, const char *name, char **json, th_error *error);
int th_volume_new(th_hull *hull, const char *name, th_error *error);
int th_volume_delete(th_hull *hull, const char *name, th_error *error);

/* The same for networks. subnets: "10.20.0.0/24", "fd20::/64", or both with a
 * comma between them; NULL: a free one is chosen. internal: no way out. */
int th_networks(th_hull *hull, char **json, th_error *error);
int th_network(th_hull *hull, const char *name, char **json, th_error *error);
int th_network_create(th_hull *hull, const char *name, const char *subnets,
	bool internal, th_error *error);
int th_network_delete(th_hull *hull, const char *name, th_error *error);

/* {"groups": [...]}; and one, with its containers in their order. */
int th_groups(th_hull *hull, char **json, th_error *error);
int th_group(th_hull *hull, const char *name, char **json, th_error *error);

/* Whether all that the store consists of is whole and fits together:
 * {"whole": true or false, "findings": [...]}. repair mends what can be mended.
 * Takes as long as reading all of it. */
int th_store_check(th_hull *hull, bool repair, char **json, th_error *error);
/* What dead programs have left is found, containers without keepers are
 * settled. Every list does it; for those who want nothing else. */
int th_store_settle(th_hull *hull, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
