/* Anybody's config.json. */
#include "fuzz/fuzz.h"
#include "oci/bundle.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_bundle bundle;

	if (th_bundle_parse((const char *)data, size, &bundle, NULL) == 0)
		th_bundle_release(&bundle);
	return 0;
}
