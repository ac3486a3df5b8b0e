/* Manifests and indexes as registries send them. */
#include "fuzz/fuzz.h"
#include "oci/manifest.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	const char *text = (const char *)data;
	struct th_manifest manifest;
	char type[128];
	struct th_index index;
	enum th_document kind;
	struct th_error err = {0};

	th_document_kind(text, size, NULL, &kind, &err);
	if (th_manifest_parse(text, size, &manifest, NULL) == 0)
		th_manifest_release(&manifest);
	if (th_index_parse(text, size, &index, NULL) == 0)
		th_index_release(&index);
	th_document_type(text, size, type, NULL);
	return 0;
}
