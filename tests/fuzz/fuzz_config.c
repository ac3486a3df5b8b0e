/* Configuration files. */
#include <stdio.h>
#include <unistd.h>

#include "base/file.h"
#include "fuzz/fuzz.h"
#include "registry/config.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_config config = {0};
	struct th_error err = {0};
	char path[TH_FD_PATH];
	int folder = fuzz_folder();

	th_file_replace(folder, "c", data, size, 0600, false, &err);
	th_config_read(th_fd_path(folder, "c", path), &config, &err);
	th_config_release(&config);
	close(folder);
	return 0;
}
