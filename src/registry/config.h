/* The configuration: which registries there are and how they are spoken to
 * (YAML; docs/configuration.md). */
#ifndef TH_REGISTRY_CONFIG_H
#define TH_REGISTRY_CONFIG_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "base/error.h"

enum th_transport { TH_TRANSPORT_HTTPS, TH_TRANSPORT_HTTP };

struct th_registry_config {
	char *host; /* with the port */
	enum th_transport transport;
	char *ca_file; /* NULL: the system's */
	char *cert_file; /* the client's certificate, or NULL */
	char *key_file;
	char **mirrors; /* hosts that are asked first, in this order */
	unsigned int mirrors_count;
	char *stall; /* a span as it was written, or NULL */
	int64_t stall_us; /* 0 where not given */
	bool search; /* asked for names without a host */
};

struct th_config {
	struct th_registry_config *registries; /* owned */
	size_t registry_count;
	int64_t keep_events; /* of each container; 0 where not given */
	char *layers_from; /* a lender's folder (store/lender.h), or NULL */
	char leave_keys[65]; /* as they were written; "" where they were not */
};

/* Adds what the file says. Entries of a later file replace those of the same
 * host. 1 read, 0 no such file, -1 with file, line and what is allowed. */
int th_config_read(
	const char *path, struct th_config *config, struct th_error *err);
void th_config_release(struct th_config *config);

/* The entry of a host, or NULL. */
const struct th_registry_config *th_config_find(
	const struct th_config *config, const char *host);

#endif
