/* From a name to the documents of one image: through indexes, nested ones too,
 * to the manifest that fits a platform, and its config. */
#ifndef TH_IMAGE_RESOLVE_H
#define TH_IMAGE_RESOLVE_H

#include "image/origin.h"
#include "oci/image_config.h"

/* What an index offers. */
struct th_offer {
	struct th_platform platform; /* empty where it does not say */
	char digest[TH_DIGEST_TEXT];
	uint64_t size_bytes; /* of the manifest */
};

struct th_resolved {
	char first[TH_DIGEST_TEXT]; /* of what the name stands for */
	bool is_index; /* it stands for an index */
	struct th_offer *offers; /* owned; of the index */
	size_t offer_count;
	char digest[TH_DIGEST_TEXT]; /* of the image's manifest */
	struct th_buf manifest_body, config_body;
	struct th_manifest manifest;
	struct th_image_config config;
};

/* Asks for wanted (a tag or digest) and chooses by platform (os empty: this
 * host's). TH_NOT_FOUND with the list of what there is where nothing fits; the
 * offers are filled in even then. An image that is not in an index fits where
 * its config says so, or where platform was given by hand. Release in any
 * case. */
int th_resolve(struct th_reader *reader, const char *wanted,
	const struct th_platform *platform, struct th_resolved *resolved,
	struct th_error *err);
void th_resolved_release(struct th_resolved *resolved);

/* "linux/arm64/v8" */
#define TH_PLATFORM_TEXT 100
void th_platform_format(
	const struct th_platform *platform, char text[TH_PLATFORM_TEXT]);
/* Reads os/architecture[/variant]. */
int th_platform_parse(
	const char *text, struct th_platform *platform, struct th_error *err);

#endif
