#include "container/log.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "unit/unit.h"

static struct th_buf file;

static int open_log(struct th_log *log)
{
	struct th_log_settings settings;
	struct th_error err = {0};

	return th_log_settings_parse(NULL, &settings, &err) ||
			th_log_open(unit_folder_fd, "log", &settings, log, &err)
		? -1
		: 0;
}

static void read_back(void)
{
	struct th_error err = {0};

	th_buf_init(&file, 64 << 20);
	CHECK_INT(th_file_read(unit_folder_fd, "log.jsonl", &file, &err), 1);
}

/* The bytes of one stream, put together again from its entries. */
static void join(enum th_stream stream, struct th_buf *out, size_t *entries)
{
	const char *at = file.data;
	struct th_buf text;

	th_buf_init(&text, TH_LOG_LINE);
	th_buf_init(out, 64 << 20);
	*entries = 0;
	while (*at) {
		size_t len = strcspn(at, "\n");
		struct th_log_entry entry;

		CHECK_INT(th_log_parse(at, len, &text, &entry), 0);
		if (entry.stream == stream) {
			th_buf_add(out, entry.data, entry.len);
			if (!entry.more)
				th_buf_adds(out, "\n");
			(*entries)++;
		}
		CHECK(entry.time_us > 0);
		at += len + (at[len] == '\n');
	}
	th_buf_release(&text);
}

static void write_all(const char *data, size_t len, size_t piece)
{
	struct th_log log;

	CHECK_INT(open_log(&log), 0);
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
		unlinkat(unit_folder_fd, "log.jsonl", 0);
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

/* However it comes: lines that are put together by the hundred, those that are
 * as long as an entry and longer, and those that begin in one piece and end in
 * another. */
static void plain_lines_come_as_they_are(void)
{
	static const size_t lengths[] = {
		0, 1, 63, TH_LOG_LINE - 1, TH_LOG_LINE, TH_LOG_LINE + 1, 7};
	static const size_t pieces[] = {1, 64, 1000, 65536, 1 << 20};
	struct th_buf text, out;
	size_t lines = 0, entries;

	th_buf_init(&text, 1 << 20);
	for (size_t i = 0; i < COUNT_OF(lengths); i++) {
		for (size_t j = 0; j < lengths[i]; j++)
			th_buf_addf(&text, "%c", (char)('a' + j % 26));
		th_buf_adds(&text, "\n");
		lines++;
		for (size_t j = 0; j < 300; j++, lines++)
			th_buf_addf(&text, "%zu boats\n", j);
	}
	for (size_t i = 0; i < COUNT_OF(pieces); i++) {
		unlinkat(unit_folder_fd, "log.jsonl", 0);
		write_all(text.data, text.len, pieces[i]);
		read_back();
		join(TH_STREAM_OUT, &out, &entries);
		CHECK_TEXT(out.data, text.data);
		/* One has a second entry. One that is just as long has one,
		 * too, where its end had not come with it. */
		CHECK(entries == lines + 1 || entries == lines + 2);
		th_buf_release(&out);
		th_buf_release(&file);
	}
	th_buf_release(&text);
}

static void streams_do_not_mix(void)
{
	struct th_log log;
	struct th_buf out;
	size_t entries;

	CHECK_INT(open_log(&log), 0);
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

	CHECK_INT(open_log(&log), 0);
	th_close(&log.fd);
	log.fd = open("/dev/full", O_WRONLY | O_CLOEXEC);
	th_log_write(&log, TH_STREAM_OUT, "lost\n", 5);
	CHECK(log.failed);
	th_log_write(&log, TH_STREAM_OUT, "lost\n", 5);
	th_log_close(&log);
}

/* What could not be written is counted, and the log goes on when it can. */
static void it_goes_on_when_there_is_room(void)
{
	struct th_log log;
	int full;

	CHECK_INT(open_log(&log), 0);
	th_log_write(&log, TH_STREAM_OUT, "before\n", 7);
	full = log.fd;
	log.fd = open("/dev/full", O_WRONLY | O_CLOEXEC);
	th_log_write(&log, TH_STREAM_OUT, "lost\nlost\n", 10);
	CHECK(log.failed);
	CHECK_INT(log.lost, 2);
	th_close(&log.fd);
	log.fd = full;
	log.failed_ms = 0;
	th_log_write(&log, TH_STREAM_OUT, "after\n", 6);
	CHECK(!log.failed);
	th_log_close(&log);
	read_back();
	CHECK(strstr(file.data, "before") && strstr(file.data, "after"));
	CHECK(!strstr(file.data, "lost"));
	th_buf_release(&file);
}

static size_t lines_of(int number)
{
	struct th_error err = {0};
	char name[TH_LOG_FILE];
	struct th_buf text;
	size_t count = 0;

	th_log_file("log", number, name);
	th_buf_init(&text, 64 << 20);
	if (th_file_read(unit_folder_fd, name, &text, &err) == 1) {
		for (const char *at = text.data; *at; at++)
			count += *at == '\n';
	}
	th_buf_release(&text);
	return count;
}

static void files_follow_one_another(void)
{
	struct th_log_settings settings;
	struct th_error err = {0};
	struct th_log log;
	int lowest, highest;
	size_t lines = 0;

	CHECK_INT(th_log_settings_parse("size=64K,files=1000", &settings, &err),
		0);
	CHECK_INT(th_log_open(unit_folder_fd, "log", &settings, &log, &err), 0);
	for (int i = 0; i < 20000; i++)
		th_log_write(&log, TH_STREAM_OUT, "one of the lines\n", 17);
	th_log_close(&log);
	CHECK_INT(th_log_files(unit_folder_fd, "log", &lowest, &highest), 0);
	CHECK_INT(lowest, 0);
	CHECK(highest > 3);
	for (int i = lowest; i <= highest; i++)
		lines += lines_of(i);
	CHECK_INT(lines, 20000);
	/* A session's log is another one. */
	CHECK_INT(th_log_files(unit_folder_fd, "session-x", &lowest, &highest),
		-1);
}

static void the_oldest_goes_first(void)
{
	struct th_log_settings settings;
	struct th_error err = {0};
	struct th_log log;
	int lowest, highest;

	CHECK_INT(
		th_log_settings_parse("files=3,size=64K", &settings, &err), 0);
	CHECK_INT(th_log_open(unit_folder_fd, "log", &settings, &log, &err), 0);
	for (int i = 0; i < 20000; i++)
		th_log_write(&log, TH_STREAM_OUT, "one of the lines\n", 17);
	/* Opened again, it goes on in the same file. */
	th_log_close(&log);
	CHECK_INT(th_log_files(unit_folder_fd, "log", &lowest, &highest), 0);
	CHECK_INT(highest - lowest, 2);
	CHECK_INT(th_log_open(unit_folder_fd, "log", &settings, &log, &err), 0);
	CHECK_INT(log.number, highest);
	th_log_close(&log);
}

static void settings_are_read(void)
{
	static const char *const bad[] = {
		"size=1K", "files=0", "files=x", "colour", "size="};
	struct th_log_settings settings;
	struct th_error err = {0};

	CHECK_INT(th_log_settings_parse("journal,size=1M", &settings, &err), 0);
	CHECK(settings.journal);
	CHECK_INT(settings.size_bytes, 1 << 20);
	CHECK_INT(settings.files, 16);
	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		th_error_clear(&err);
		CHECK_INT(th_log_settings_parse(bad[i], &settings, &err), -1);
		CHECK(strstr(err.hint, "--log") != NULL);
	}
}

static void other_lines_are_no_entries(void)
{
	static const char *const bad[] = {"", "{}", "[]", "{\"at\":1}",
		"{\"at\":1,\"out\":7}", "{\"at\":1,\"out64\":\"*\"}",
		"{\"at\":1,\"out\":\"torn", "{\"at\":1,\"out\":\"a\"}x",
		"{\"at\":1,\"out\":\"\\u00g0\"}", "{\"at\":01,\"out\":\"a\"}",
		"{\"at\":1,\"out\":\"\377\"}", "{\"at\":1,\"out\":\"\001\"}",
		"{\"at\":1,\"out\":\"\\ud800\"}"};
	struct th_log_entry entry;
	struct th_buf text;

	th_buf_init(&text, TH_LOG_LINE);
	for (size_t i = 0; i < COUNT_OF(bad); i++)
		CHECK_INT(th_log_parse(bad[i], strlen(bad[i]), &text, &entry),
			-1);
	th_buf_release(&text);
}

/* Whoever wrote them: the same as any JSON parser reads. */
static void any_json_is_read(void)
{
	static const struct {
		const char *line;
		int64_t time_us;
		const char *text;
		bool err, more;
	} lines[] = {
		{"{\"at\":12,\"out\":\"plain\"}", 12, "plain", false, false},
		{"{\"at\":0,\"err\":\"\",\"more\":true}", 0, "", true, true},
		{"{\"at\":7,\"out\":\"\\\"a\\\\b\\tc\\r\"}", 7, "\"a\\b\tc\r",
			false, false},
		{"{\"at\":7,\"out\":\"\\u001b[1m\\u007f\"}", 7, "\033[1m\177",
			false, false},
		{"{\"at\":7,\"out\":\"h\303\266he \\t\342\206\222\"}", 7,
			"h\303\266he \t\342\206\222", false, false},
		{"{\"at\":7,\"out\":\"\\u00F6\\/\\b\"}", 7, "\303\266/\b",
			false, false},
		{"{\"at\":7,\"out\":\"\\ud83d\\ude00\"}", 7, "\360\237\230\200",
			false, false},
		{"{ \"out\" : \"turned\" , \"at\" : 9 }", 9, "turned", false,
			false},
		{"{\"at\":9,\"out\":\"x\",\"more\":false}", 9, "x", false,
			false},
		{"{\"at\":9,\"err64\":\"/4A=\"}", 9, "\377\200", true, false}};
	struct th_log_entry entry;
	struct th_buf text;

	th_buf_init(&text, TH_LOG_LINE);
	for (size_t i = 0; i < COUNT_OF(lines); i++) {
		const char *line = lines[i].line;

		CHECK_INT(th_log_parse(line, strlen(line), &text, &entry), 0);
		CHECK_INT(entry.time_us, lines[i].time_us);
		CHECK_INT(entry.len, strlen(lines[i].text));
		CHECK(memcmp(entry.data, lines[i].text, entry.len) == 0);
		CHECK_INT(entry.stream == TH_STREAM_ERR, lines[i].err);
		CHECK_INT(entry.more, lines[i].more);
	}
	th_buf_release(&text);
	CHECK_INT(th_log_time(lines[0].line, strlen(lines[0].line)), 12);
	CHECK_INT(th_log_time("{\"at\":x", 7), -1);
	CHECK_INT(th_log_time("{\"at\":0123,", 11), -1);
	CHECK_INT(th_log_time("", 0), -1);
}

static const CU_TestInfo tests[] = {
	{"every byte comes back", every_byte_comes_back},
	{"lines are entries", lines_are_entries},
	{"long lines go on in the next entry",
		long_lines_go_on_in_the_next_entry},
	{"plain lines come as they are", plain_lines_come_as_they_are},
	{"streams do not mix", streams_do_not_mix},
	{"a full disk ends the log only", a_full_disk_ends_the_log_only},
	{"it goes on when there is room", it_goes_on_when_there_is_room},
	{"any JSON is read", any_json_is_read},
	{"files follow one another", files_follow_one_another},
	{"the oldest goes first", the_oldest_goes_first},
	{"settings are read", settings_are_read},
	{"other lines are no entries", other_lines_are_no_entries},
	CU_TEST_INFO_NULL};

const struct suite suite_log = {"log", tests};
