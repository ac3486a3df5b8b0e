/* libcrypto's digests, loaded when they are first needed (base/late_curl.h says
 * why). */
#ifndef TH_BASE_LATE_CRYPTO_H
#define TH_BASE_LATE_CRYPTO_H

#include <openssl/evp.h>

#include "base/error.h"

struct late_crypto {
	int (*DigestFinal_ex)(EVP_MD_CTX *, unsigned char *, unsigned int *);
	int (*DigestInit_ex)(EVP_MD_CTX *, const EVP_MD *, ENGINE *);
	int (*DigestUpdate)(EVP_MD_CTX *, const void *, size_t);
	void (*MD_CTX_free)(EVP_MD_CTX *);
	EVP_MD_CTX *(*MD_CTX_new)(void);
	const EVP_MD *(*sha256)(void);
	const EVP_MD *(*sha512)(void);
};
extern struct late_crypto late_crypto;

/* As th_late_curl. */
int th_late_crypto(struct th_error *err);

#undef EVP_DigestFinal_ex
#define EVP_DigestFinal_ex late_crypto.DigestFinal_ex
#undef EVP_DigestInit_ex
#define EVP_DigestInit_ex late_crypto.DigestInit_ex
#undef EVP_DigestUpdate
#define EVP_DigestUpdate late_crypto.DigestUpdate
#undef EVP_MD_CTX_free
#define EVP_MD_CTX_free late_crypto.MD_CTX_free
#undef EVP_MD_CTX_new
#define EVP_MD_CTX_new late_crypto.MD_CTX_new
#undef EVP_sha256
#define EVP_sha256 late_crypto.sha256
#undef EVP_sha512
#define EVP_sha512 late_crypto.sha512

#endif
