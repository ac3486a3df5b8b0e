/* What containers share, and the store itself. */
#ifndef TIDYHULL_PLACE_H
#define TIDYHULL_PLACE_H

#include <tidyhull/object.h>

#ifdef __cplusplus
extern "C" {
#endif

int th_volume_new(th_hull *hull, const char *name, th_error *error);
/* subnets: a list of "10.20.0.0/24", "fd20::/64", or both with a comma between
 * them; NULL: a free one is chosen. internal: no way out. host_loopback: an
 * unprivileged user's containers reach that of the host. */
int th_network_create(th_hull *hull, const char *name, const json_t *subnets,
	bool internal, bool host_loopback, th_error *error);

/* Whether all that the store consists of is whole and fits together, as "doctor
 * --verify --json". repair mends what can be mended. Takes as long as reading
 * all of it. */
int th_store_check(th_hull *hull, bool repair, json_t **doc, th_error *error);
/* What dead programs have left is found, containers without keepers are
 * settled. Every list does it; for those who want nothing else. */
int th_store_settle(th_hull *hull, th_error *error);

/* What lies about unused. */
typedef struct th_sweep th_sweep; /* opaque */

enum th_sweep_kind {
	TH_SWEEP_CONTAINERS = 1,
	TH_SWEEP_IMAGES = 2,
	TH_SWEEP_VOLUMES = 4,
	TH_SWEEP_NETWORKS = 8
};
/* Finds what could go: kinds is a set; only what has been unused since
 * before_us (since 1970; INT64_MAX: all). doc as "sweep --json", with
 * "total-bytes". Nothing is changed. */
int th_sweep_find(th_hull *hull, int kinds, int64_t before_us, th_sweep **sweep,
	json_t **doc, th_error *error);
/* Removes what was found, as far as it is unused still, and of the kinds that
 * were looked for. Tells "working" how far it is. TH_FAILED after
 * th_hull_cancel: what has gone is gone, the rest is there. */
int th_sweep_remove(th_hull *hull, th_sweep *sweep, th_error *error);
void th_sweep_free(th_sweep *sweep);

#ifdef __cplusplus
}
#endif

#endif
