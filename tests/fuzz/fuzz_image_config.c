/* Image configurations as registries send them. */
#include "fuzz/fuzz.h"
#include "oci/image_config.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_image_config config;

	if (th_image_config_parse((const char *)data, size, &config, NULL) == 0)
		th_image_config_release(&config);
	return 0;
}
