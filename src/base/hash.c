#include "base/hash.h"

#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/late_crypto.h"
#include "base/sha256.h"

/* Up to here our own is done before the library is loaded. */
#define SMALL_BYTES (64 * 1024)

struct th_hash {
	EVP_MD_CTX *context;
	bool wide; /* SHA-512 */
};

static bool is_wide(const char *like)
{
	return like && strncmp(like, "sha512:", 7) == 0;
}

static int begin(struct th_hash *hash)
{
	return EVP_DigestInit_ex(
		hash->context, hash->wide ? EVP_sha512() : EVP_sha256(), NULL);
}

struct th_hash *th_hash_new(const char *like)
{
	struct th_hash *hash =
		th_late_crypto(NULL) ? NULL : calloc(1, sizeof(*hash));

	if (!hash)
		return NULL;
	hash->wide = is_wide(like);
	hash->context = EVP_MD_CTX_new();
	if (!hash->context || !begin(hash)) {
		th_hash_free(hash);
		return NULL;
	}
	return hash;
}

void th_hash_add(struct th_hash *hash, const void *data, size_t len)
{
	EVP_DigestUpdate(hash->context, data, len);
}

static void write_digest(
	const unsigned char *raw, size_t len, char digest[TH_HASH_TEXT])
{
	memcpy(digest, len > 32 ? "sha512:" : "sha256:", 8);
	for (size_t i = 0; i < len && i < 64; i++)
		snprintf(digest + 7 + 2 * i, 3, "%02x", raw[i]);
}

void th_hash_digest(struct th_hash *hash, char digest[TH_HASH_TEXT])
{
	unsigned char raw[EVP_MAX_MD_SIZE];
	unsigned int len = 0;

	EVP_DigestFinal_ex(hash->context, raw, &len);
	write_digest(raw, len, digest);
	begin(hash);
}

void th_hash_free(struct th_hash *hash)
{
	if (!hash)
		return;
	EVP_MD_CTX_free(hash->context);
	free(hash);
}

int th_hash_like(const char *like, const void *data, size_t len,
	char digest[TH_HASH_TEXT])
{
	struct th_hash *hash;

	if (len <= SMALL_BYTES && !is_wide(like)) {
		unsigned char raw[32];

		th_sha256(data, len, raw);
		write_digest(raw, sizeof(raw), digest);
		return 0;
	}
	hash = th_hash_new(like);
	if (!hash)
		return -1;
	th_hash_add(hash, data, len);
	th_hash_digest(hash, digest);
	th_hash_free(hash);
	return 0;
}

int th_hash_once(const void *data, size_t len, char digest[TH_HASH_TEXT])
{
	return th_hash_like(NULL, data, len, digest);
}
