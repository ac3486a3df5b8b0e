/* Descriptors, manifests and indexes of the OCI Image Specification
 * (descriptor.md, manifest.md, image-index.md). */
#ifndef TH_OCI_MANIFEST_H
#define TH_OCI_MANIFEST_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"
#include "base/buffer.h"
#include "oci/digest.h"

#define TH_MEDIA_MANIFEST "application/vnd.oci.image.manifest.v1+json"
#define TH_MEDIA_INDEX "application/vnd.oci.image.index.v1+json"
#define TH_MEDIA_CONFIG "application/vnd.oci.image.config.v1+json"
#define TH_MEDIA_LAYER_GZIP "application/vnd.oci.image.layer.v1.tar+gzip"

/* The largest manifest, index or config that is accepted, in bytes. */
#define TH_MANIFEST_MAX (4u << 20)
/* More layers than any overlay stack takes. */
#define TH_LAYERS_MAX 400

enum th_compression { TH_PLAIN, TH_GZIP, TH_ZSTD };

struct th_platform {
	char os[32];
	char architecture[32];
	char variant[32];
	/* Something that has to be there and that Linux does not know ("" for
	 * nothing): what is made for it runs nowhere here. */
	char feature[32];
};

struct th_descriptor {
	char media_type[128];
	char digest[TH_DIGEST_TEXT];
	uint64_t size_bytes;
	enum th_compression compression; /* of layers */
	struct th_platform platform; /* of an index's items, or empty */
	/* The content itself, where it stands in the descriptor (its member
	 * "data"); owned, "" for none. Checked: it has the digest. */
	struct th_buf data;
	struct th_strings urls; /* where else it may be; owned */
};

struct th_manifest {
	struct th_descriptor config;
	struct th_descriptor *layers; /* owned; the lowest first */
	size_t layer_count;
};

struct th_index {
	struct th_descriptor *items; /* owned */
	size_t count;
};

/* What a document is: judged by its own mediaType, else by the type that the
 * registry or the descriptor gave (may be NULL), else by its members. */
enum th_document { TH_DOC_MANIFEST, TH_DOC_INDEX };
int th_document_kind(const char *data, size_t len, const char *media_type,
	enum th_document *kind, struct th_error *err);

/* The media type of a manifest, as it stands in it, or that of the
 * specification. */
int th_document_type(
	const char *data, size_t len, char type[128], struct th_error *err);

/* Reads a manifest; every part that is used is checked. */
int th_manifest_parse(const char *data, size_t len,
	struct th_manifest *manifest, struct th_error *err);
void th_manifest_release(struct th_manifest *manifest);

int th_index_parse(const char *data, size_t len, struct th_index *index,
	struct th_error *err);
void th_index_release(struct th_index *index);

/* This host's platform in the specification's words (GOOS, GOARCH values). */
void th_platform_host(struct th_platform *platform);
/* What is no platform as the specification writes them, but has the name of an
 * architecture or a machine: "arm64", "Linux/x86_64", "arm/v7". */
bool th_platform_meant(const char *text, struct th_platform *platform);
/* How well something made for one platform fits another: 0 not at all, more is
 * better. */
int th_platform_fit(
	const struct th_platform *have, const struct th_platform *wanted);

/* What a descriptor's media type stands for; one that is empty or unknown may
 * be neither. */
bool th_media_is_manifest(const char *media_type);
bool th_media_is_index(const char *media_type);

#endif
