/* Units of systemd that bring containers up at boot. */
#ifndef TIDYHULL_UNIT_H
#define TIDYHULL_UNIT_H

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* wish: {"of" (the name of a container or group; null: all that is due),
 * "program" (of the command line, an absolute path), "folder" (of the units),
 * "user" (for the caller's own manager), "recreate", "fetch", "restarts" (by
 * systemd, and not by the keeper)}. */

/* {"unit", "text", "name" (of what it starts), "kind" ("container", "group" or
 * "all-due"), "runs" (the container does)}. */
int th_unit_show(
	th_hull *hull, const json_t *wish, json_t **doc, th_error *error);
/* Puts it in place and enables it; as above, with "lingers": null, true, or why
 * not. anyway: over one that was edited by hand. */
int th_unit_place(th_hull *hull, const json_t *wish, bool anyway, json_t **doc,
	th_error *error);
/* Disables it, and takes it away, whether or not there is a container still:
 * {"unit", "active", "note" (or null)}. */
int th_unit_take_away(th_hull *hull, const json_t *wish, bool anyway,
	json_t **doc, th_error *error);
/* Those in the folder of the wish: {"units": [...], "note"}. */
int th_unit_list(
	th_hull *hull, const json_t *wish, json_t **doc, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
