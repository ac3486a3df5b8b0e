/* Feeds the files of folders to a fuzz target: what the fuzzers found once is
 * tried with every run of the tests. */
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>

#include "base/file.h"
#include "fuzz/fuzz.h"

int main(int argc, char **argv)
{
	struct dirent *entry;
	int count = 0;

	for (int i = 1; i < argc; i++) {
		DIR *dir = opendir(argv[i]);

		while (dir && (entry = readdir(dir))) {
			struct th_error err = {0};
			struct th_buf buf;

			if (entry->d_name[0] == '.')
				continue;
			th_buf_init(&buf, 16 << 20);
			if (th_file_read(dirfd(dir), entry->d_name, &buf,
				    &err) == 1) {
				LLVMFuzzerTestOneInput(
					(const uint8_t *)buf.data, buf.len);
				count++;
			}
			th_buf_release(&buf);
		}
		if (dir)
			closedir(dir);
	}
	if (count == 0) {
		fprintf(stderr, "%s: the corpus is empty\n", argv[0]);
		return 1;
	}
	printf("%s: %d inputs\n", strrchr(argv[0], '/') + 1, count);
	return 0;
}
