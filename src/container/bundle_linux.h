/* The Linux part of a container's config.json: what keeps it apart from the
 * host, and the limits (docs/safety.md). */
#ifndef TH_CONTAINER_BUNDLE_LINUX_H
#define TH_CONTAINER_BUNDLE_LINUX_H

#include <jansson.h>

#include "model/settings.h"
#include "store/store.h"

/* The capabilities of root inside: the small default set, as changed by the
 * settings. */
uint64_t th_default_capabilities(const struct th_settings *settings);

/* Adds the member "linux" to config, without a system-call filter, and what the
 * devices asked for bring. */
int th_bundle_linux(struct th_store *store, const char *id,
	const struct th_settings *settings, json_t *config,
	struct th_error *err);

/* Puts limits into an OCI "resources" object. */
void th_limit_write(const struct th_limit *limit, json_t *resources);

#endif
