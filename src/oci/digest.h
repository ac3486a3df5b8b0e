/* Digests of the OCI Image Specification (descriptor.md, "Digests"). */
#ifndef TH_OCI_DIGEST_H
#define TH_OCI_DIGEST_H

#include <stdbool.h>

#include "base/hash.h"

/* "sha512:" and 128 digits, with the NUL; "sha256:" has 64. */
#define TH_DIGEST_TEXT TH_HASH_TEXT
#define TH_DIGEST_HEX_MAX 128
/* The digest and an image layout's name for its blob: "sha256/...". */
#define TH_DIGEST_PATH TH_DIGEST_TEXT

/* True where text is a digest of an algorithm that is supported, which all
 * registered ones are: sha256 and sha512 (descriptor.md), in lower-case digits.
 */
bool th_digest_valid(const char *text);
/* Whether so many digits are those of one of them. */
bool th_digest_is_length(size_t digits);
/* Where the blob lies below "blobs/" (image-layout.md). */
const char *th_digest_path(const char *digest, char path[TH_DIGEST_PATH]);
/* The digest whose digits a name begins with, up to a dot; text needs
 * TH_DIGEST_TEXT bytes. False where it does not begin with any. */
bool th_digest_of_name(const char *name, char *text);
/* The digits behind the colon. */
const char *th_digest_hex(const char *digest);

#endif
