/* The client's side of the OCI Distribution Specification: writing (spec.md,
 * "Pushing"). */
#ifndef TH_REGISTRY_UPLOAD_H
#define TH_REGISTRY_UPLOAD_H

#include "oci/digest.h"
#include "registry/ask.h"

/* The repository that is written to, and where blobs may be taken from. */
struct th_target {
	struct th_registry *registry;
	const char *path;
	/* What must be allowed: the repository itself, and reading others. */
	const char *scope;
};

/* A blob that is sent: a file that is read from its beginning. */
struct th_outgoing {
	int fd; /* borrowed */
	const char *digest;
	uint64_t size_bytes;
	const char *mount; /* a repository that has it too, or NULL */
	uint64_t chunk_bytes; /* larger ones go in chunks; 0: never */
	void (*progress)(void *owner, uint64_t sent_bytes);
	void *owner;
};

enum th_sent { TH_SENT_ALL, TH_SENT_MOUNTED };

/* 1 where the repository has the blob, 0 where not, -1. */
int th_registry_has_blob(const struct th_target *target, const char *digest,
	struct th_error *err);

/* Brings the blob there: mounted from another repository where that works, in
 * one piece, or in chunks. What breaks is taken up where it broke (chunks), or
 * sent again. */
int th_registry_send(const struct th_target *target,
	const struct th_outgoing *blob, enum th_sent *how,
	struct th_error *err);

/* Writes a manifest under a tag or its digest. */
int th_registry_put_manifest(const struct th_target *target,
	const char *reference, const char *media_type, const char *data,
	size_t len, struct th_error *err);

#endif
