/* Archives that are copied into a container: nothing outside the folder is
 * touched, whatever they say. */
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "container/copy.h"
#include "fuzz.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char folder[] = "/tmp/hull-fuzz-XXXXXX", inside[] = "/in";
	char name[] = "box";
	struct th_place to = {.container = name, .path = inside, .lock = -1};
	struct th_copy copy = {.owner = TH_OWNER_AUTO};
	struct th_error err = {0};
	int fd = memfd_create("archive", MFD_CLOEXEC), top;

	if (fd < 0 || !mkdtemp(folder))
		abort();
	top = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (mkdirat(top, "in", 0755) ||
		symlinkat("../../../../../../tmp", top, "in/out") ||
		th_write_all(fd, data, size) || lseek(fd, 0, SEEK_SET))
		abort();
	/* To whom they belong is not what is looked at. */
	copy.owner = TH_OWNER_GIVEN;
	copy.uid = getuid();
	copy.gid = getgid();
	to.root = top;
	th_copy_from_tar(fd, &to, &copy, &err);
	if (access("/tmp/hull-fuzz-evil", F_OK) == 0)
		abort();
	close(fd);
	close(top);
	th_error_clear(&err);
	if (th_tree_remove(AT_FDCWD, folder, &err))
		abort();
	return 0;
}
