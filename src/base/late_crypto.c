#include "base/late_crypto.h"

#include "base/late.h"

struct late_crypto late_crypto;

#define FUNCTION(name)                                                         \
	{                                                                      \
		"EVP_" #name, &late_crypto.name                                \
	}

int th_late_crypto(struct th_error *err)
{
	static const struct late_function functions[] = {
		FUNCTION(DigestFinal_ex), FUNCTION(DigestInit_ex),
		FUNCTION(DigestUpdate), FUNCTION(MD_CTX_free),
		FUNCTION(MD_CTX_new), FUNCTION(sha256), FUNCTION(sha512),
		{NULL, NULL}};
	static struct late_library library = {"libcrypto.so.3", functions, 0};

	return late_load(&library, err);
}
