/* The operations of the OCI Runtime Specification (runtime.md) on bundles. */
#ifndef TIDYHULL_OCI_H
#define TIDYHULL_OCI_H

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* states: the folder of the states, absolute; NULL: the caller's usual one.
 * warning gets what went otherwise than config.json says, and may be NULL. */

/* call: {"id", "bundle", "pid-file", "console-socket", "output" ("none", or a
 * file), "log", "env": ["KEY=VALUE"...]}; paths are absolute, all but the first
 * two where wanted. */
int th_oci_create(th_hull *hull, const char *states, const json_t *call,
	th_error *warning, th_error *error);
/* Becomes a program that creates, starts, waits and deletes with this process's
 * streams, and ends with the container's exit code. Returns only where that
 * fails. */
int th_oci_run(
	th_hull *hull, const char *states, const json_t *call, th_error *error);
int th_oci_start(th_hull *hull, const char *states, const char *id,
	th_error *warning, th_error *error);
int th_oci_state(th_hull *hull, const char *states, const char *id,
	json_t **doc, th_error *error);
int th_oci_kill(th_hull *hull, const char *states, const char *id,
	const char *signal, bool all, th_error *error);
int th_oci_delete(th_hull *hull, const char *states, const char *id, bool force,
	th_error *warning, th_error *error);
/* What this runtime can do (features.md). */
int th_oci_features(json_t **doc, th_error *error);
/* A line of JSON for the engine that called, at the end of the file; path NULL:
 * nothing. level: "error" or "warning". */
void th_oci_log(const char *path, const char *level, const th_error *error);
/* Writes a bundle for any runtime: of the image and settings of a container
 * (container.h) into the folder, an absolute path. {} or problems. */
int th_oci_bundle(th_hull *hull, const json_t *settings, const char *folder,
	json_t **doc, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
