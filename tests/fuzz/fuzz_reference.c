/* References as people type them. */
#include <stdlib.h>
#include <string.h>

#include "fuzz/fuzz.h"
#include "oci/reference.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = fuzz_text(data, size);
	char written[TH_REFERENCE_MAX + 256], again[TH_REFERENCE_MAX + 256];
	struct th_reference ref, same;
	struct th_error err = {0};

	/* What is accepted is written so that it is read the same way. */
	if (th_reference_parse(text, &ref, &err) == 0) {
		th_reference_format(&ref, written);
		if (th_reference_parse(written, &same, &err))
			abort();
		th_reference_format(&same, again);
		if (strcmp(written, again) != 0)
			abort();
	} else if (!err.msg[0]) {
		abort();
	}
	free(text);
	return 0;
}
