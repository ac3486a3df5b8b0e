#include "container/log.h"

#include <dirent.h>
#include <endian.h>
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/size.h"
#include "base/utf8.h"

/* Nothing is lost unless somebody says so, and no disk is filled up either. */
/* How long after a write that failed the next is tried. */
#define RETRY_MS 1000
/* What ends an entry, and the most that one takes beside its text. */
#define ENTRY_TAIL 3
#define ENTRY_ROOM (sizeof(((struct th_log_head *)NULL)->text) + ENTRY_TAIL + 1)
/* So many are put together before more room is asked for. */
#define LINES_AT_ONCE 256
#define JOURNAL "/run/systemd/journal/socket"

void th_log_file(const char *base, int number, char name[TH_LOG_FILE])
{
	if (number)
		snprintf(name, TH_LOG_FILE, "%.40s.%d.jsonl", base, number);
	else
		snprintf(name, TH_LOG_FILE, "%.40s.jsonl", base);
}

int th_log_files(int folder, const char *base, int *lowest, int *highest)
{
	int fd = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	size_t len = strlen(base);
	struct dirent *entry;

	*lowest = *highest = -1;
	if (!dir) {
		th_close(&fd);
		return -1;
	}
	while ((entry = readdir(dir))) {
		const char *rest = entry->d_name + len;
		char name[TH_LOG_FILE];
		int number;

		if (strncmp(entry->d_name, base, len) != 0 || *rest != '.')
			continue;
		number = atoi(rest + 1);
		th_log_file(base, number, name);
		if (strcmp(name, entry->d_name) != 0)
			continue;
		if (*lowest < 0 || number < *lowest)
			*lowest = number;
		if (number > *highest)
			*highest = number;
	}
	closedir(dir);
	return *lowest < 0 ? -1 : 0;
}

static int open_file(struct th_log *log)
{
	char name[TH_LOG_FILE];
	struct stat st;

	th_log_file(log->base, log->number, name);
	log->fd = openat(log->folder, name,
		O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC | O_NONBLOCK, 0600);
	if (log->fd < 0 || fstat(log->fd, &st))
		return -1;
	log->bytes = st.st_size;
	return 0;
}

int th_log_open(int folder, const char *base,
	const struct th_log_settings *settings, struct th_log *log,
	struct th_error *err)
{
	int lowest;

	memset(log, 0, sizeof(*log));
	th_buf_init(&log->entries, 4 << 20);
	for (int i = 0; i < 2; i++)
		th_buf_init(&log->partial[i], TH_LOG_LINE);
	log->folder = folder;
	log->journal = -1;
	log->settings = *settings;
	snprintf(log->base, sizeof(log->base), "%s", base);
	if (th_log_files(folder, base, &lowest, &log->number))
		log->number = 0;
	if (open_file(log))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot open the log");
	return 0;
}

/* Begins the next file, and gives up the oldest where there are too many. */
static void rotate(struct th_log *log)
{
	char name[TH_LOG_FILE];
	int last = log->fd;

	log->number++;
	if (open_file(log)) {
		/* Better too long than lost. */
		th_close(&log->fd);
		log->fd = last;
		log->number--;
		return;
	}
	th_close(&last);
	if (log->number >= log->settings.files) {
		th_log_file(log->base, log->number - log->settings.files, name);
		unlinkat(log->folder, name, 0);
	}
}

/* One entry for the journal, in its native protocol: fields of text, and those
 * that may hold line ends with their length in front. A journal that does not
 * take it in time gets the next one; the file has them all. */
static void send_journal(
	struct th_log *log, enum th_stream stream, const char *data, size_t len)
{
	const struct timeval patience = {.tv_usec = 200000};
	struct sockaddr_un to = {.sun_family = AF_UNIX};
	uint64_t size = htole64(len);
	struct th_buf head;

	if (!log->settings.journal)
		return;
	if (log->journal < 0) {
		log->journal = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
		setsockopt(log->journal, SOL_SOCKET, SO_SNDTIMEO, &patience,
			sizeof(patience));
	}
	snprintf(to.sun_path, sizeof(to.sun_path), JOURNAL);
	th_buf_init(&head, 4096 + TH_LOG_LINE);
	th_buf_addf(&head,
		"SYSLOG_IDENTIFIER=%.60s\nTIDYHULL_CONTAINER=%.60s\n"
		"TIDYHULL_ID=%.40s\nPRIORITY=%d\nMESSAGE\n",
		log->name, log->name, log->id, stream == TH_STREAM_ERR ? 3 : 6);
	th_buf_add(&head, &size, sizeof(size));
	th_buf_add(&head, data, len);
	th_buf_adds(&head, "\n");
	if (!head.failed)
		sendto(log->journal, head.data, head.len, MSG_NOSIGNAL,
			(struct sockaddr *)(void *)&to, sizeof(to));
	th_buf_release(&head);
}

/* Appends the text escaped for JSON; false where it is not valid UTF-8. */
static bool add_text(struct th_buf *out, const char *data, size_t len)
{
	while (len > 0) {
		size_t run = th_utf8_plain(data, len);
		unsigned char byte;

		th_buf_add(out, data, run);
		data += run;
		len -= run;
		if (len == 0)
			break;
		byte = (unsigned char)*data;
		run = th_utf8_length((const unsigned char *)data, len);
		if (run == 0)
			return false;
		if (byte == '"' || byte == '\\')
			th_buf_addf(out, "\\%c", byte);
		else if (byte == '\t')
			th_buf_adds(out, "\\t");
		else if (byte == '\r')
			th_buf_adds(out, "\\r");
		else if (byte < 0x20 || byte == 0x7f)
			th_buf_addf(out, "\\u%04x", byte);
		else
			th_buf_add(out, data, run);
		data += run;
		len -= run;
	}
	return true;
}

/* What each entry begins with: the same for all of one call. */
static const struct th_log_head *head_of(
	struct th_log *log, enum th_stream stream, int64_t time_us)
{
	struct th_log_head *head = &log->heads[stream];

	if (!head->len || head->time_us != time_us) {
		head->time_us = time_us;
		head->len = (size_t)snprintf(head->text, sizeof(head->text),
			"{\"at\":%" PRId64 ",\"%s\":\"", time_us,
			stream == TH_STREAM_OUT ? "out" : "err");
	}
	return head;
}

/* The usual entry, of text that needs no escape, in one piece; there is room
 * for it. The head is copied with what lies behind it, as a length that is
 * known takes no call. */
static char *put_plain(char *room, const struct th_log_head *head,
	const char *data, size_t len)
{
	memcpy(room, head->text, sizeof(head->text));
	memcpy(room + head->len, data, len);
	memcpy(room + head->len + len, "\"}\n", ENTRY_TAIL + 1);
	return room + head->len + len + ENTRY_TAIL;
}

static void add_plain(struct th_log *log, enum th_stream stream,
	int64_t time_us, const char *data, size_t len)
{
	const struct th_log_head *head = head_of(log, stream, time_us);
	char *room = th_buf_room(&log->entries, ENTRY_ROOM + len);

	if (room)
		log->entries.len +=
			(size_t)(put_plain(room, head, data, len) - room);
}

/* Whole lines, where all of the text needs no escape: they come by the million.
 * How many bytes of it have been taken; 0: the first line is not of the kind.
 */
static size_t add_plain_lines(struct th_log *log, enum th_stream stream,
	int64_t time_us, const char *data, size_t len)
{
	const struct th_log_head *head = head_of(log, stream, time_us);
	int64_t until = (int64_t)log->settings.size_bytes - log->bytes;
	const char *at = data, *end;
	size_t lines = 0;
	char *room, *to;

	if (log->settings.journal)
		return 0;
	room = th_buf_room(&log->entries, LINES_AT_ONCE * ENTRY_ROOM + len);
	if (!room)
		return 0;
	for (to = room; lines < LINES_AT_ONCE && to - log->entries.data < until;
		lines++) {
		end = memchr(at, '\n', len - (size_t)(at - data));
		if (!end || end - at > TH_LOG_LINE)
			break;
		to = put_plain(to, head, at, (size_t)(end - at));
		at = end + 1;
	}
	log->entries.len += (size_t)(to - room);
	log->entry_count += lines;
	return (size_t)(at - data);
}

static void add_escaped(struct th_log *log, enum th_stream stream,
	int64_t time_us, const char *data, size_t len, bool more)
{
	const struct th_log_head *head = head_of(log, stream, time_us);
	struct th_buf *out = &log->entries;
	size_t before = out->len;

	th_buf_add(out, head->text, head->len);
	if (!add_text(out, data, len)) {
		out->len = before;
		th_buf_addf(out, "{\"at\":%" PRId64 ",\"%s64\":\"", time_us,
			stream == TH_STREAM_OUT ? "out" : "err");
		th_buf_base64(out, data, len);
	}
	th_buf_adds(out, more ? "\",\"more\":true}\n" : "\"}\n");
}

/* What an entry is of, besides its bytes. */
enum part {
	LINE, /* whole */
	PLAIN_LINE, /* and known to need no escape */
	MORE /* it goes on in the next one */
};

static void add_entry(struct th_log *log, enum th_stream stream,
	int64_t time_us, const char *data, size_t len, enum part part)
{
	if (part == PLAIN_LINE ||
		(part == LINE && th_utf8_plain(data, len) == len))
		add_plain(log, stream, time_us, data, len);
	else
		add_escaped(log, stream, time_us, data, len, part == MORE);
	log->entry_count++;
	send_journal(log, stream, data, len);
}

static void note_failure(struct th_log *log, int sys)
{
	/* No half of a line stays behind. */
	if (ftruncate(log->fd, log->bytes)) {
		/* The reader passes over a torn line. */
	}
	log->failed = true;
	log->sys = sys;
	log->failed_ms = th_clock_mono_ms();
	log->lost += log->entry_count;
}

static void flush_entries(struct th_log *log)
{
	if (log->entries.len && log->fd >= 0) {
		if (log->entries.failed ||
			th_write_all(
				log->fd, log->entries.data, log->entries.len)) {
			note_failure(log, log->entries.failed ? ENOMEM : errno);
		} else {
			log->failed = false;
			log->bytes += (int64_t)log->entries.len;
			if (log->bytes >= (int64_t)log->settings.size_bytes)
				rotate(log);
		}
	}
	log->entries.len = 0;
	log->entries.failed = false;
	log->entry_count = 0;
	if (log->entries.cap > 1 << 20)
		th_buf_release(&log->entries);
}

/* One line, or what is there of it; how many bytes that are. */
static size_t add_line(struct th_log *log, enum th_stream stream, int64_t now,
	const char *data, size_t len, enum part part)
{
	struct th_buf *partial = &log->partial[stream];
	const char *end = memchr(data, '\n', len);
	size_t line = end ? (size_t)(end - data) : len;
	size_t take = line;

	if (partial->len == 0)
		log->partial_us[stream] = now;
	if (take > TH_LOG_LINE - partial->len)
		take = TH_LOG_LINE - partial->len;
	if (partial->len == 0 && end && take == line) {
		/* Nothing to keep. */
		add_entry(log, stream, now, data, line, part);
		return take + 1;
	}
	th_buf_add(partial, data, take);
	if (end && take == line)
		add_entry(log, stream, log->partial_us[stream], partial->data,
			partial->len, LINE);
	else if (partial->len == TH_LOG_LINE)
		add_entry(log, stream, log->partial_us[stream], partial->data,
			partial->len, MORE);
	if ((end && take == line) || partial->len == TH_LOG_LINE)
		partial->len = 0;
	return take + (end && take == line);
}

void th_log_write(
	struct th_log *log, enum th_stream stream, const char *data, size_t len)
{
	int64_t now = th_clock_now_us();
	enum part part;

	/* A full disk may have room again. */
	if (log->failed && th_clock_mono_ms() < log->failed_ms + RETRY_MS) {
		log->lost++;
		return;
	}
	/* Looked at once, instead of line by line. */
	part = th_utf8_plain_lines(data, len) ? PLAIN_LINE : LINE;
	while (len > 0) {
		size_t done = part == PLAIN_LINE && !log->partial[stream].len
			? add_plain_lines(log, stream, now, data, len)
			: 0;

		if (!done)
			done = add_line(log, stream, now, data, len, part);
		data += done;
		len -= done;
		/* A file ends where it should, however much comes at once. */
		if (log->bytes + (int64_t)log->entries.len >=
			(int64_t)log->settings.size_bytes)
			flush_entries(log);
	}
	flush_entries(log);
}

void th_log_end_lines(struct th_log *log)
{
	for (int i = 0; i < 2; i++) {
		if (log->partial[i].len)
			add_entry(log, (enum th_stream)i, log->partial_us[i],
				log->partial[i].data, log->partial[i].len,
				MORE);
		log->partial[i].len = 0;
	}
	flush_entries(log);
}

struct th_log_place th_log_place(const struct th_log *log)
{
	return (struct th_log_place){log->number, log->bytes};
}

void th_log_close(struct th_log *log)
{
	if (log->fd >= 0)
		th_log_end_lines(log);
	th_close(&log->journal);
	for (int i = 0; i < 2; i++)
		th_buf_release(&log->partial[i]);
	th_buf_release(&log->entries);
	th_close(&log->fd);
}

void th_log_place_format(
	const struct th_log_place *place, char text[TH_LOG_PLACE_TEXT])
{
	snprintf(text, TH_LOG_PLACE_TEXT, "%d %lld", (int)place->number,
		(long long)place->bytes);
}

bool th_log_place_parse(const char *text, struct th_log_place *place)
{
	long long bytes;
	int number;

	if (sscanf(text, "%d %lld", &number, &bytes) != 2 || number < 0 ||
		bytes < 0)
		return false;
	place->number = number;
	place->bytes = bytes;
	return true;
}
