#include "oci/digest.h"

#include <string.h>

bool th_digest_valid(const char *text)
{
	if (strncmp(text, "sha256:", 7) != 0)
		return false;
	return strlen(text) == 7 + TH_DIGEST_HEX &&
		strspn(text + 7, "0123456789abcdef") == TH_DIGEST_HEX;
}

const char *th_digest_hex(const char *digest)
{
	return digest + 7;
}
