/* Anybody's config.json, also without its system-call filter. */
#include <stdlib.h>
#include <string.h>

#include "base/json_cut.h"
#include "fuzz/fuzz.h"
#include "oci/bundle.h"

/* What can be read whole can be read without the part, and has all else. */
static void check_cut(
	const char *data, size_t size, const struct th_bundle *whole)
{
	char *text = malloc(size + 1);
	struct th_bundle bundle;
	size_t len;

	if (!text)
		abort();
	memcpy(text, data, size);
	len = th_json_cut(text, size, "linux", "seccomp");
	if (len > size)
		abort();
	if (whole) {
		if (th_bundle_parse(text, len, &bundle, NULL) ||
			bundle.mount_count != whole->mount_count ||
			bundle.namespaces != whole->namespaces ||
			strcmp(bundle.root_path, whole->root_path) != 0 ||
			(len == size &&
				bundle.seccomp.given != whole->seccomp.given) ||
			(len < size && bundle.seccomp.given))
			abort();
		th_bundle_release(&bundle);
	}
	free(text);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_bundle bundle;
	int rc = th_bundle_parse((const char *)data, size, &bundle, NULL);

	check_cut((const char *)data, size, rc == 0 ? &bundle : NULL);
	if (rc == 0)
		th_bundle_release(&bundle);
	return 0;
}
