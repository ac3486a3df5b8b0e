/* Lines of a log file, and what a program may write. */
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "fuzz/fuzz.h"
#include "container/log.h"

/* Whatever is written must come back byte by byte. */
static void check_round(int folder, const char *data, size_t size)
{
	struct th_error err = {0};
	struct th_buf file, back, text;
	struct th_log_settings settings;
	struct th_log log;

	th_buf_init(&file, 16 << 20);
	th_buf_init(&back, 16 << 20);
	th_buf_init(&text, 4 * TH_LOG_LINE);
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

		if (th_log_parse(at, len, &text, &entry))
			abort();
		th_buf_add(&back, entry.data, entry.len);
		if (!entry.more)
			th_buf_adds(&back, "\n");
		at += len + 1;
	}
	if (back.len != size || memcmp(back.data, data, size) != 0)
		abort();
	th_buf_release(&file);
	th_buf_release(&back);
	th_buf_release(&text);
}

/* What is read without the JSON parser is what it would have read. */
static void check_reading(const char *data, size_t size)
{
	static const char *const keys[] = {"out", "err"};
	struct th_log_entry entry;
	struct th_buf text;

	th_buf_init(&text, 8 << 20);
	if (th_log_parse(data, size, &text, &entry) == 0) {
		json_t *doc = json_loadb(data, size, JSON_ALLOW_NUL, NULL);
		json_t *said = json_object_get(
			doc, keys[entry.stream == TH_STREAM_ERR]);

		if (!doc ||
			json_integer_value(json_object_get(doc, "at")) !=
				entry.time_us ||
			json_is_true(json_object_get(doc, "more")) !=
				entry.more)
			abort();
		if (json_is_string(said) &&
			(json_string_length(said) != entry.len ||
				memcmp(json_string_value(said), entry.data,
					entry.len) != 0))
			abort();
		json_decref(doc);
	}
	th_buf_release(&text);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	int folder = fuzz_folder();

	check_reading((const char *)data, size);
	if (size <= FUZZ_BYTES_MAX)
		check_round(folder, (const char *)data, size);
	close(folder);
	return 0;
}
