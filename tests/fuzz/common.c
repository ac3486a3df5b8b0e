#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "fuzz/fuzz.h"

char *fuzz_text(const uint8_t *data, size_t size)
{
	char *text;

	if (size > FUZZ_BYTES_MAX)
		size = FUZZ_BYTES_MAX;
	text = malloc(size + 1);
	if (!text)
		abort();
	memcpy(text, data, size);
	text[size] = '\0';
	return text;
}

static char folder[64];

static void remove_folder(void)
{
	struct th_error ignored = {0};

	th_tree_remove(AT_FDCWD, folder, &ignored);
}

int fuzz_folder(void)
{
	struct th_error ignored = {0};

	if (!folder[0]) {
		snprintf(folder, sizeof(folder), "/tmp/hull-fuzz-XXXXXX");
		if (!mkdtemp(folder))
			abort();
		atexit(remove_folder);
	} else {
		th_tree_remove(AT_FDCWD, folder, &ignored);
		if (mkdir(folder, 0755))
			abort();
	}
	return open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
}
