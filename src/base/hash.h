/* Digests of a stream of bytes: SHA-256, and SHA-512 where one is asked for by
 * an example. */
#ifndef TH_BASE_HASH_H
#define TH_BASE_HASH_H

#include <stddef.h>

#include "base/error.h"

struct th_hash; /* opaque */

/* Room for "sha512:" and 128 digits. */
#define TH_HASH_TEXT 136

/* like: a digest of the same algorithm as the one that is wanted
 * ("sha512:..."); NULL: SHA-256. */
struct th_hash *th_hash_new(const char *like);
void th_hash_add(struct th_hash *hash, const void *data, size_t len);
/* Writes "sha256:" (or "sha512:") and the digits, and begins anew. */
void th_hash_digest(struct th_hash *hash, char digest[TH_HASH_TEXT]);
void th_hash_free(struct th_hash *hash);

/* The digest of one piece; -1 without memory. */
int th_hash_once(const void *data, size_t len, char digest[TH_HASH_TEXT]);
/* The same by the algorithm of another digest. */
int th_hash_like(const char *like, const void *data, size_t len,
	char digest[TH_HASH_TEXT]);

#endif
