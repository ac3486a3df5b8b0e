#include "oci/digest.h"

#include <stdio.h>
#include <string.h>

#define SHA256_DIGITS 64
#define SHA512_DIGITS 128

bool th_digest_is_length(size_t digits)
{
	return digits == SHA256_DIGITS || digits == SHA512_DIGITS;
}

bool th_digest_valid(const char *text)
{
	size_t digits = strncmp(text, "sha256:", 7) == 0 ? SHA256_DIGITS
		: strncmp(text, "sha512:", 7) == 0	 ? SHA512_DIGITS
							 : 0;

	return digits && strlen(text) == 7 + digits &&
		strspn(text + 7, "0123456789abcdef") == digits;
}

const char *th_digest_hex(const char *digest)
{
	return digest + 7;
}

const char *th_digest_path(const char *digest, char path[TH_DIGEST_PATH])
{
	snprintf(path, TH_DIGEST_PATH, "%.6s/%.*s", digest, TH_DIGEST_HEX_MAX,
		th_digest_hex(digest));
	return path;
}

bool th_digest_of_name(const char *name, char *text)
{
	size_t digits = strcspn(name, ".");

	if (!th_digest_is_length(digits) ||
		strspn(name, "0123456789abcdef") != digits)
		return false;
	snprintf(text, TH_DIGEST_TEXT, "%s:%.*s",
		digits == SHA256_DIGITS ? "sha256" : "sha512", (int)digits,
		name);
	return true;
}
