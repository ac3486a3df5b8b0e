/* The client's side of the OCI Distribution Specification: reading. (What is
 * sent to a registry is in upload.h.) */
#ifndef TH_REGISTRY_CLIENT_H
#define TH_REGISTRY_CLIENT_H

#include "oci/digest.h"
#include "oci/reference.h"
#include "registry/ask.h"

/* Whether the registry speaks the protocol and lets the login in, if there is
 * one (spec.md, "Determining Support"). */
int th_registry_greet(struct th_registry *registry, struct th_error *err);

/* Gets a manifest or index by tag or digest (spec.md, "Pulling manifests").
 * Where wanted is a digest the content is checked against it. digest receives
 * that of the content, type what the registry says it is. TH_NOT_FOUND where
 * the registry does not have it. */
int th_registry_manifest(struct th_registry *registry, const char *path,
	const char *wanted, struct th_buf *body, char digest[TH_DIGEST_TEXT],
	char type[128], struct th_error *err);

/* Begins to get a blob of size_bytes from the byte offset on (spec.md,
 * "Pulling blobs"); what comes is not checked. A broken connection is taken up
 * again where it broke. One at a time; the source lives until the next
 * request, and must not outlive the reader, which is the caller's and is given
 * to th_registry_blob_end. */
struct th_blob_reader;
/* The same from any other place, which gets no login of the registry's. An HTTP
 * address is taken only where the registry is spoken to without TLS, too. */
int th_registry_blob_at(struct th_registry *registry, const char *url,
	uint64_t offset, uint64_t size_bytes, struct th_blob_reader **reader,
	struct th_error *err);
int th_registry_blob(struct th_registry *registry, const char *path,
	const char *digest, uint64_t offset, uint64_t size_bytes,
	struct th_blob_reader **reader, struct th_error *err);
struct th_source *th_blob_reader_source(struct th_blob_reader *reader);
void th_registry_blob_end(struct th_blob_reader *reader);

/* The tags of a repository, in the registry's order (spec.md, "Listing Tags"),
 * all pages of them. */
int th_registry_tags(struct th_registry *registry, const char *path,
	struct th_strings *tags, struct th_error *err);
/* The repositories of a registry, all pages. TH_NOT_FOUND where it does not
 * tell. */
int th_registry_catalogue(struct th_registry *registry,
	struct th_strings *names, struct th_error *err);

#endif
