/* SHA-256 of a stream of bytes. */
#ifndef TH_BASE_HASH_H
#define TH_BASE_HASH_H

#include <stddef.h>

#include "base/error.h"

struct th_hash; /* opaque */

struct th_hash *th_hash_new(void);
void th_hash_add(struct th_hash *hash, const void *data, size_t len);
/* Writes "sha256:" and the digits, and begins anew. */
void th_hash_digest(struct th_hash *hash, char digest[72]);
void th_hash_free(struct th_hash *hash);

/* The digest of one piece; -1 without memory. */
int th_hash_once(const void *data, size_t len, char digest[72]);

#endif
