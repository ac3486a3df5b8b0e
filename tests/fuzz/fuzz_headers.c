/* Headers of registries: challenges, pauses, ranges, links. */
#include <stdlib.h>

#include "fuzz/fuzz.h"
#include "registry/headers.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = fuzz_text(data, size), target[256];
	struct th_challenge challenge;
	uint64_t first, last;
	int64_t wait_us;

	th_challenge_parse(text, &challenge);
	th_retry_after_parse(text, 1772323200000000, &wait_us);
	th_content_range_parse(text, &first, &last);
	th_upload_range_parse(text, &last);
	th_link_next(text, target, sizeof(target));
	th_url_origin(text, target, sizeof(target));
	free(text);
	return 0;
}
