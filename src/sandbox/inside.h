/* The steps that the new process takes before its program: they run inside
 * and report by th_error. For the sandbox module only. */
#ifndef TH_SANDBOX_INSIDE_H
#define TH_SANDBOX_INSIDE_H

#include "base/error.h"
#include "oci/bundle.h"

/* mounts.c: all mounts of the bundle below rootfd, masks included. */
int th_inside_mounts(
	const struct th_bundle *bundle, int rootfd, struct th_error *err);
/* mounts.c: /dev's nodes and links. */
int th_inside_devices(
	const struct th_bundle *bundle, int rootfd, struct th_error *err);
/* mounts.c: masked and read-only paths, and the root itself. */
int th_inside_protect(
	const struct th_bundle *bundle, int rootfd, struct th_error *err);
/* terminal.c: a new terminal of the container's own devpts; the slave becomes
 * the standard streams and /dev/console. */
int th_inside_terminal(int *master, bool bind_console, struct th_error *err);
/* identity.c: groups, user, capabilities, limits and the working folder. */
int th_inside_identity(const struct th_process *process, struct th_error *err);
/* identity.c: does not return where it succeeds. */
int th_inside_exec(const struct th_process *process, struct th_error *err);

#endif
