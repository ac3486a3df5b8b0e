/* Packed files: archives with an image layout, also compressed. */
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "fuzz/fuzz.h"
#include "image/packed.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	const struct th_packed_image *images;
	struct th_store store = {.root_fd = fuzz_folder()};
	struct th_packed *packed = NULL;
	struct th_error err = {0};
	char path[TH_FD_PATH];
	size_t count = 0;

	mkdirat(store.root_fd, "tmp", 0700);
	th_file_replace(store.root_fd, "f", data, size, 0600, false, &err);
	if (th_packed_open(&store, th_fd_path(store.root_fd, "f", path),
		    (struct th_cancel){0}, &packed, &err) == 0) {
		images = th_packed_images(packed, &count);
		for (size_t i = 0; i < count && i < 16; i++) {
			struct th_buf body;
			struct th_error one = {0};

			th_buf_init(&body, TH_MANIFEST_MAX);
			th_packed_document(
				packed, images[i].digest, &body, &one);
			th_buf_release(&body);
		}
	}
	th_packed_close(packed);
	close(store.root_fd);
	return 0;
}
