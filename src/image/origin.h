/* Where an image comes from: a registry with its mirrors, or a packed file or
 * folder. One origin serves the threads of a pull; each has a reader. */
#ifndef TH_IMAGE_ORIGIN_H
#define TH_IMAGE_ORIGIN_H

#include "image/packed.h"
#include "oci/reference.h"
#include "registry/client.h"

struct th_origin;
struct th_reader;

/* The repository that the reference (with a host) names. The options are
 * borrowed. NULL with an error. */
struct th_origin *th_origin_registry(const struct th_registry_options *options,
	const struct th_reference *ref, struct th_error *err);
/* What was packed; borrowed. */
struct th_origin *th_origin_packed(
	const struct th_packed *packed, struct th_error *err);
void th_origin_free(struct th_origin *origin);

/* What has to be told: a mirror that failed, and who stood in for it. */
const struct th_strings *th_origin_notes(struct th_origin *origin);
/* The host that gave the manifest; "" for a packed one. */
const char *th_origin_giver(const struct th_origin *origin);

struct th_reader *th_reader_new(struct th_origin *origin, struct th_error *err);
void th_reader_free(struct th_reader *reader);

/* As th_registry_manifest. */
int th_reader_manifest(struct th_reader *reader, const char *wanted,
	struct th_buf *body, char digest[TH_DIGEST_TEXT], char type[128],
	struct th_error *err);
/* Begins to give a blob (borrowed, until the end) from the byte offset on; what
 * comes is not checked. Where one host fails, another goes on from there; where
 * none has it, the descriptor's URLs are tried, without any login. One at a
 * time: the source lives until the next call. */
int th_reader_blob(struct th_reader *reader, const struct th_descriptor *blob,
	uint64_t offset, struct th_source **source, struct th_error *err);
void th_reader_blob_end(struct th_reader *reader);
/* What the last blob's host gave was wrong: it is not asked again. True where
 * there is another one to ask. */
bool th_reader_distrust(struct th_reader *reader, const struct th_error *why);

#endif
