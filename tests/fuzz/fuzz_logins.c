/* The file of logins. */
#include <unistd.h>

#include "base/file.h"
#include "fuzz/fuzz.h"
#include "registry/logins.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_logins logins;
	struct th_error err = {0};
	char path[TH_FD_PATH];
	int folder = fuzz_folder();

	th_file_replace(folder, "l", data, size, 0600, false, &err);
	if (th_logins_read(th_fd_path(folder, "l", path), &logins, &err) == 0)
		th_logins_release(&logins);
	close(folder);
	return 0;
}
