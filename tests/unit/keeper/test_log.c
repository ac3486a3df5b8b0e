#include "keeper/log.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/plan.h"
#include "unit/unit.h"

static struct th_buf file;

static void read_back(void)
{
	struct th_error err = {0};

	th_buf_init(&file, 64 << 20);
	CHECK_INT(th_file_read(unit_folder_fd, TH_LOG_NAME, &file, &err), 1);
}

/* The bytes of one stream, put together again from its entries. */
static void join(enum th_stream stream, struct th_buf *out, size_t *entries)
{
	const char *at = file.data;

	th_buf_init(out, 64 << 20);
	*entries = 0;
	while (*at) {
		size_t len = strcspn(at, "\n");
		struct th_log_entry entry;

		CHECK_INT(th_log_parse(at, len, &entry), 0);
		if (entry.stream == stream) {
			th_buf_add(out, entry.data, entry.len);
			if (!entry.more)
				th_buf_adds(out, "\n");
			(*entries)++;
		}
		CHECK(entry.time_us > 0);
		free(entry.data);
		at += len + (at[len] == '\n');
	}
}

static void write_all(const char *data, size_t len, size_t piece)
{
	struct th_error err = {0};
	struct th_log log;

	CHECK_INT(th_log_open(unit_folder_fd, &log, &err), 0);
	for (size_t at = 0; at < len; at += piece)
		th_log_write(&log, TH_STREAM_OUT, data + at,
			len - at < piece ? len - at : piece);
	th_log_close(&log);
	CHECK(!log.failed);
}

static void every_byte_comes_back(void)
{
	static const size_t pieces[] = {1, 3, 255, 5000};
	char data[5000];
	struct th_buf out;
	size_t entries;

	/* All bytes there are, with lines of many lengths. */
	for (size_t i = 0; i < sizeof(data); i++)
		data[i] = (char)(i * 7 + i / 256);
	data[sizeof(data) - 1] = '\n';
	for (size_t i = 0; i < COUNT_OF(pieces); i++) {
		unlinkat(unit_folder_fd, TH_LOG_NAME, 0);
		write_all(data, sizeof(data), pieces[i]);
		read_back();
		join(TH_STREAM_OUT, &out, &entries);
		CHECK_INT(out.len, sizeof(data));
		CHECK(memcmp(out.data, data, sizeof(data)) == 0);
		th_buf_release(&out);
		th_buf_release(&file);
	}
}

static void lines_are_entries(void)
{
	static const char text[] = "High water\nLow \"water\"\\\t\n\n"
				   "f\303\274r \342\202\254\nno end";
	struct th_buf out;
	size_t entries;

	write_all(text, strlen(text), 4);
	read_back();
	CHECK(strstr(file.data, "\"out\":\"High water\"}\n") != NULL);
	CHECK(strstr(file.data, "\"out\":\"Low \\\"water\\\"\\\\\\t\"}\n") !=
		NULL);
	CHECK(strstr(file.data, "f\303\274r \342\202\254") != NULL);
	CHECK(strstr(file.data, "\"no end\",\"more\":true}\n") != NULL);
	join(TH_STREAM_OUT, &out, &entries);
	CHECK_INT(entries, 5);
	CHECK_TEXT(out.data, text);
	th_buf_release(&out);
	th_buf_release(&file);
}

static void long_lines_go_on_in_the_next_entry(void)
{
	size_t len = TH_LOG_LINE * 2 + 100, entries;
	char *text = malloc(len + 1);
	struct th_buf out;

	memset(text, 'x', len);
	text[len] = '\n';
	write_all(text, len + 1, 50000);
	read_back();
	join(TH_STREAM_OUT, &out, &entries);
	CHECK_INT(entries, 3);
	CHECK_INT(out.len, len + 1);
	th_buf_release(&out);
	th_buf_release(&file);
	free(text);
}

static void streams_do_not_mix(void)
{
	struct th_error err = {0};
	struct th_log log;
	struct th_buf out;
	size_t entries;

	CHECK_INT(th_log_open(unit_folder_fd, &log, &err), 0);
	th_log_write(&log, TH_STREAM_OUT, "half ", 5);
	th_log_write(&log, TH_STREAM_ERR, "trouble\n", 8);
	th_log_write(&log, TH_STREAM_OUT, "a line\n", 7);
	th_log_close(&log);
	read_back();
	join(TH_STREAM_OUT, &out, &entries);
	CHECK_TEXT(out.data, "half a line\n");
	th_buf_release(&out);
	join(TH_STREAM_ERR, &out, &entries);
	CHECK_TEXT(out.data, "trouble\n");
	th_buf_release(&out);
	th_buf_release(&file);
}

static void a_full_disk_ends_the_log_only(void)
{
	struct th_log log;

	CHECK_INT(th_log_open(unit_folder_fd, &log, NULL), 0);
	th_close(&log.fd);
	log.fd = open("/dev/full", O_WRONLY | O_CLOEXEC);
	th_log_write(&log, TH_STREAM_OUT, "lost\n", 5);
	CHECK(log.failed);
	th_log_write(&log, TH_STREAM_OUT, "lost\n", 5);
	th_log_close(&log);
}

static void other_lines_are_no_entries(void)
{
	static const char *const bad[] = {"", "{}", "[]", "{\"at\":1}",
		"{\"at\":1,\"out\":7}", "{\"at\":1,\"out64\":\"*\"}",
		"{\"at\":1,\"out\":\"torn"};
	struct th_log_entry entry;

	for (size_t i = 0; i < COUNT_OF(bad); i++)
		CHECK_INT(th_log_parse(bad[i], strlen(bad[i]), &entry), -1);
}

static const CU_TestInfo tests[] = {
	{"every byte comes back", every_byte_comes_back},
	{"lines are entries", lines_are_entries},
	{"long lines go on in the next entry",
		long_lines_go_on_in_the_next_entry},
	{"streams do not mix", streams_do_not_mix},
	{"a full disk ends the log only", a_full_disk_ends_the_log_only},
	{"other lines are no entries", other_lines_are_no_entries},
	CU_TEST_INFO_NULL};

const struct suite suite_log = {"log", tests};
