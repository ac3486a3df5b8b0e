/* Digests of the OCI Image Specification (descriptor.md, "Digests"). */
#ifndef TH_OCI_DIGEST_H
#define TH_OCI_DIGEST_H

#include <stdbool.h>

#include "base/error.h"

/* "sha256:" and 64 digits, with the NUL. */
#define TH_DIGEST_TEXT 72
#define TH_DIGEST_HEX 64

/* True where text is a digest of the one algorithm that is supported:
 * sha256 with lower-case digits. */
bool th_digest_valid(const char *text);
/* The digits behind the colon. */
const char *th_digest_hex(const char *digest);

#endif
