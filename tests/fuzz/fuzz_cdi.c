/* Files that describe devices by name (Container Device Interface). */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

#include "base/file.h"
#include "container/cdi.h"
#include "fuzz/fuzz.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char folder[] = "/tmp/hull-fuzz-cdi-XXXXXX";
	const char *const folders[] = {folder, NULL};
	struct th_error err = {0};
	json_t *config = json_object();
	char path[64];

	if (!mkdtemp(folder)) {
		json_decref(config);
		return 0;
	}
	snprintf(path, sizeof(path), "%s/one.json", folder);
	if (size < 65536 &&
		th_file_replace(
			AT_FDCWD, path, data, size, 0600, false, &err) == 0) {
		th_error_clear(&err);
		th_cdi_apply(
			"selwick.example/gauge=north", folders, config, &err);
	}
	unlink(path);
	rmdir(folder);
	json_decref(config);
	return 0;
}
