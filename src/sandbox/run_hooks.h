/* Running the hooks of a bundle (OCI Runtime Specification, config.md,
 * "POSIX-platform Hooks"). */
#ifndef TH_SANDBOX_RUN_HOOKS_H
#define TH_SANDBOX_RUN_HOOKS_H

#include "oci/bundle.h"

/* Runs the hooks of the kind one after another, each with the state (JSON) on
 * its standard input. Where one fails, or takes longer than its time-out: -1,
 * with what it said last. Then the rest is not run, but for poststart and
 * poststop, whose failures are warnings. */
int th_hooks_run(const struct th_bundle *bundle, enum th_hook_kind kind,
	const char *state, struct th_error *err);

/* The state of a container (runtime.md, "State"), to be freed; NULL without
 * memory. pid 0: none. */
char *th_hooks_state(const struct th_bundle *bundle, const char *id,
	const char *status, pid_t pid, const char *bundle_path);

#endif
