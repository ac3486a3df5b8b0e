/* Manifests and indexes as registries send them. */
#include "fuzz/fuzz.h"
#include "oci/manifest.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	const char *text = (const char *)data;
	const struct th_descriptor *item;
	struct th_manifest manifest;
	struct th_platform host;
	struct th_index index;
	enum th_document kind;
	struct th_error err = {0};

	th_document_kind(text, size, NULL, &kind, &err);
	if (th_manifest_parse(text, size, &manifest, NULL) == 0)
		th_manifest_release(&manifest);
	if (th_index_parse(text, size, &index, NULL) == 0) {
		th_platform_host(&host);
		th_index_select(&index, &host, &item, NULL);
		th_index_release(&index);
	}
	return 0;
}
