/* Names of images: [HOST[:PORT]/]PATH[:TAG][@DIGEST], with the grammar that
 * the OCI Distribution Specification gives for paths and tags. */
#ifndef TH_OCI_REFERENCE_H
#define TH_OCI_REFERENCE_H

#include "base/error.h"
#include "oci/digest.h"

#define TH_REFERENCE_MAX 600

struct th_reference {
	char host[256]; /* with the port; empty where none was given */
	char path[256];
	char tag[129]; /* empty where only a digest was given */
	char digest[TH_DIGEST_TEXT]; /* empty where none was given */
};

/* Reads a reference. Without tag and digest the tag is "latest". The first
 * part counts as a host where it holds a dot or a colon or is "localhost".
 * Errors: TH_USAGE, saying which part is wrong and what is allowed. */
int th_reference_parse(
	const char *text, struct th_reference *ref, struct th_error *err);

/* Whether text can stand as the host of a reference; TH_USAGE otherwise. */
int th_host_check(const char *text, struct th_error *err);

/* Writes it in full. */
void th_reference_format(
	const struct th_reference *ref, char text[TH_REFERENCE_MAX + 256]);

/* What a registry is asked for: the digest, or else the tag. */
const char *th_reference_wanted(const struct th_reference *ref);

#endif
