/* What token services answer. */
#include "fuzz/fuzz.h"
#include "registry/token.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_token token;
	struct th_error err = {0};

	if (th_token_parse((const char *)data, size, 0, &token, &err) == 0)
		th_token_release(&token);
	return 0;
}
