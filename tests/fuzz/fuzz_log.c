/* Lines of a log file, and what a program may write. */
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "fuzz/fuzz.h"
#include "container/log.h"

/* Whatever is written must come back byte by byte. */
static void check_round(int folder, const char *data, size_t size)
{
	struct th_error err = {0};
	struct th_buf file, back;
	struct th_log_settings settings;
	struct th_log log;

	th_buf_init(&file, 16 << 20);
	th_buf_init(&back, 16 << 20);
	if (th_log_settings_parse(NULL, &settings, &err) ||
		th_log_open(folder, "log", &settings, &log, &err))
		abort();
	th_log_write(&log, TH_STREAM_OUT, data, size / 2);
	th_log_write(&log, TH_STREAM_OUT, data + size / 2, size - size / 2);
	th_log_close(&log);
	if (th_file_read(folder, "log.jsonl", &file, &err) != 1)
		abort();
	for (const char *at = file.data; *at;) {
		size_t len = strcspn(at, "\n");
		struct th_log_entry entry;

		if (th_log_parse(at, len, &entry))
			abort();
		th_buf_add(&back, entry.data, entry.len);
		if (!entry.more)
			th_buf_adds(&back, "\n");
		free(entry.data);
		at += len + 1;
	}
	if (back.len != size || memcmp(back.data, data, size) != 0)
		abort();
	th_buf_release(&file);
	th_buf_release(&back);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct th_log_entry entry;
	int folder = fuzz_folder();

	if (th_log_parse((const char *)data, size, &entry) == 0)
		free(entry.data);
	if (size <= FUZZ_BYTES_MAX)
		check_round(folder, (const char *)data, size);
	close(folder);
	return 0;
}
