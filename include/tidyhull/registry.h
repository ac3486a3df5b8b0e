/* Registries: searching, looking before pulling, logins. */
#ifndef TIDYHULL_REGISTRY_H
#define TIDYHULL_REGISTRY_H

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Those that have something of the name, as "find --json"; each with "rank",
 * the best first. */
int th_registry_find(
	th_hull *hull, const char *term, json_t **doc, th_error *error);
/* What a reference, or each image of a packed file, is: {"images": [...]}, each
 * as "peek --json", with "note" where none of it fits. */
int th_registry_peek(th_hull *hull, const char *name, const char *platform,
	json_t **doc, th_error *error);
/* {"name", "tags"} of a repository. */
int th_registry_list_tags(
	th_hull *hull, const char *name, json_t **doc, th_error *error);
/* Whether the text is the host of a registry, before anything is asked for. */
int th_registry_check(const char *host, th_error *error);
/* Keeps a login, once the registry has accepted it: {"verified"}, false where
 * it lets everybody in. */
int th_registry_login(th_hull *hull, const char *host, const char *user,
	const char *password, json_t **doc, th_error *error);
int th_registry_logout(th_hull *hull, const char *host, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
