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
	struct th_strings applied = {0};
	json_t *config = json_object();
	char path[64];

	if (!mkdtemp(folder)) {
		json_decref(config);
		return 0;
	}
	/* The first byte says which kind of file it is. */
	snprintf(path, sizeof(path), "%s/one.%s", folder,
		size && data[0] == '{' ? "json" : "yaml");
	if (size < 65536 &&
		th_file_replace(
			AT_FDCWD, path, data, size, 0600, false, &err) == 0) {
		th_error_clear(&err);
		th_cdi_apply("selwick.example/gauge=north", folders, &applied,
			config, &err);
	}
	unlink(path);
	rmdir(folder);
	th_strings_release(&applied);
	json_decref(config);
	return 0;
}
