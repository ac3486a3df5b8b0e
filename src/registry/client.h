/* The client's side of the OCI Distribution Specification: pulling. */
#ifndef TH_REGISTRY_CLIENT_H
#define TH_REGISTRY_CLIENT_H

#include "oci/reference.h"
#include "registry/config.h"
#include "registry/http.h"

struct th_registry;

/* A client of the registry at host, for one thread. cancel as for th_http. */
struct th_registry *th_registry_new(const struct th_config *config,
	const char *host, const atomic_bool *cancel, struct th_error *err);
void th_registry_free(struct th_registry *registry);

/* Gets a manifest or index by tag or digest (spec.md, "Pulling manifests").
 * Where wanted is a digest the content is checked against it. digest receives
 * that of the content, type what the registry says it is. TH_NOT_FOUND where
 * the registry does not have it. */
int th_registry_manifest(struct th_registry *registry, const char *path,
	const char *wanted, struct th_buf *body, char digest[TH_DIGEST_TEXT],
	char type[128], struct th_error *err);

/* Begins to get a blob (spec.md, "Pulling blobs"); what comes is not checked.
 * One at a time; the source lives until the next call. */
int th_registry_blob(struct th_registry *registry, const char *path,
	const char *digest, struct th_source **source, struct th_error *err);

#endif
