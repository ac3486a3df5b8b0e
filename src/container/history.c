#include "container/history.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/inotify.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "container/reach.h"

#define READ_BYTES (256 * 1024)
#define FOLLOW_MS 250
/* More than the longest entry in its written form. */
#define LINE_MAX_BYTES (8 * TH_LOG_LINE)

struct th_history {
	const struct th_history_options *options;
	struct th_store *store;
	char id[TH_ID_LENGTH + 1];
	char base[48];
	int folder;
	int number; /* of the file that is read */
	int fd; /* -1: it is not there yet */
	int64_t at; /* how far it is read */
	struct th_buf line; /* what is read and not yet taken */
	size_t used; /* of it */
	struct th_buf text; /* of the entry that was given last */
	int changes; /* inotify, where it is followed */
	bool keeper_gone, over, cut;
};

static void open_file(struct th_history *history)
{
	char name[TH_LOG_FILE], path[TH_FD_PATH];

	th_log_file(history->base, history->number, name);
	th_close(&history->fd);
	history->at = 0;
	history->fd = openat(
		history->folder, name, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	if (history->fd >= 0 && history->changes >= 0)
		inotify_add_watch(history->changes,
			th_fd_path(history->fd, "", path),
			IN_MODIFY | IN_CLOSE_WRITE);
}

/* True where the line is one of the streams that are asked for: only its first
 * bytes are looked at. */
static bool is_wanted(
	const struct th_history_options *options, const char *line, size_t len)
{
	const char *comma = memchr(line, ',', len < 40 ? len : 40);

	if (options->streams == TH_STREAMS_BOTH || !comma ||
		(size_t)(comma - line) + 5 > len)
		return true;
	return (strncmp(comma, ",\"err", 5) == 0) ==
		(options->streams == TH_STREAMS_ERR);
}

/* Most of a long log is older than what is asked for: no more is read of it
 * than its times. They may go back where the clock was set. */
static bool is_before(
	const struct th_history_options *options, const char *line, size_t len)
{
	int64_t time_us;

	if (!options->since_us)
		return false;
	time_us = th_log_time(line, len);
	return time_us >= 0 && time_us < options->since_us;
}

static bool begins_wanted(const struct th_history *history, off_t from)
{
	char head[48];
	ssize_t got;

	if (history->options->streams == TH_STREAMS_BOTH)
		return true;
	got = pread(history->fd, head, sizeof(head), from);
	return got > 0 && is_wanted(history->options, head, (size_t)got);
}

/* Counts entries from the end of the open file back. True where the last of
 * them was found: the file then is read from there on. */
static int seek_back(
	struct th_history *history, long *wanted, struct th_error *err)
{
	char data[65536];
	struct stat st;
	off_t at;

	if (fstat(history->fd, &st))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read the log");
	at = st.st_size;
	while (at > 0) {
		off_t from =
			at > (off_t)sizeof(data) ? at - (off_t)sizeof(data) : 0;
		ssize_t got =
			pread(history->fd, data, (size_t)(at - from), from);

		if (got <= 0)
			return th_fail_sys(
				err, TH_FAILED, errno, "cannot read the log");
		while (got > 0) {
			off_t begin = from + got;

			/* What begins behind the last line end is no line. */
			if (data[--got] != '\n' || begin == st.st_size ||
				!begins_wanted(history, begin))
				continue;
			if (*wanted == 0) {
				history->at = begin;
				return 1;
			}
			if (--*wanted == 0) {
				history->at = begin;
				return 1;
			}
		}
		at = from;
	}
	if (st.st_size > 0 && begins_wanted(history, 0))
		--*wanted;
	return *wanted <= 0;
}

static int seek_last(struct th_history *history, int lowest, int highest,
	struct th_error *err)
{
	long wanted = history->options->last;
	int rc = 0;

	if (wanted == 0) {
		struct stat st;

		history->number = highest;
		open_file(history);
		if (history->fd >= 0 && fstat(history->fd, &st) == 0)
			history->at = st.st_size;
		return 0;
	}
	for (int number = highest; number >= lowest; number--) {
		history->number = number;
		open_file(history);
		if (history->fd < 0)
			break;
		rc = seek_back(history, &wanted, err);
		if (rc)
			return rc < 0 ? -1 : 0;
	}
	return 0;
}

/* The first file that may hold what is asked for. */
static void seek_first(struct th_history *history, int lowest, int highest)
{
	for (int number = lowest; number <= highest; number++) {
		struct stat st;

		history->number = number;
		open_file(history);
		/* Nothing in a file is later than its last change. */
		if (number == highest || history->fd < 0 ||
			!history->options->since_us ||
			fstat(history->fd, &st) ||
			(int64_t)st.st_mtim.tv_sec * 1000000 + 1000000 >=
				history->options->since_us)
			break;
	}
}

int th_history_open(struct th_store *store, const char *id, const char *session,
	const struct th_history_options *options, struct th_history **made,
	struct th_error *err)
{
	struct th_history *history = calloc(1, sizeof(*history));
	int lowest = 0, highest = 0, rc = 0;
	char path[64];

	if (!history)
		return th_fail_memory(err);
	history->options = options;
	history->store = store;
	history->fd = history->changes = -1;
	snprintf(history->id, sizeof(history->id), "%s", id);
	snprintf(history->base, sizeof(history->base), "%s%s",
		session ? TH_SESSION_LOG : "log", session ? session : "");
	th_buf_init(&history->line, LINE_MAX_BYTES + 2 * READ_BYTES);
	th_buf_init(&history->text, LINE_MAX_BYTES);
	snprintf(path, sizeof(path), "containers/%s", id);
	history->folder = openat(
		store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (history->folder < 0) {
		rc = th_fail_sys(
			err, TH_FAILED, errno, "cannot open the log's folder");
		goto out;
	}
	if (options->follow)
		history->changes = inotify_init1(IN_CLOEXEC | IN_NONBLOCK);
	if (th_log_files(history->folder, history->base, &lowest, &highest))
		lowest = highest = 0;
	if (options->last >= 0)
		rc = seek_last(history, lowest, highest, err);
	else
		seek_first(history, lowest, highest);
	history->cut = lowest > 0 && options->last < 0 && !options->since_us;
out:
	if (rc) {
		th_history_close(history);
		return -1;
	}
	*made = history;
	return 0;
}

/* A whole line that has been read already. */
static bool take_line(
	struct th_history *history, const char **line, size_t *len)
{
	const char *begin = history->line.data + history->used;
	const char *end =
		memchr(begin, '\n', history->line.len - history->used);

	if (!end)
		return false;
	*line = begin;
	*len = (size_t)(end - begin);
	history->used += *len + 1;
	return true;
}

/* Reads what is there by now; 1 where something was, 0, -1. */
static int read_more(struct th_history *history, struct th_error *err)
{
	const struct th_log_place *end = &history->options->end;
	size_t want = READ_BYTES;
	ssize_t got;
	char *room;

	if (history->fd < 0)
		open_file(history);
	if (history->fd < 0)
		return 0;
	if (end->bytes >= 0 && history->number >= end->number) {
		if (history->number > end->number || history->at >= end->bytes)
			return 0;
		if ((int64_t)want > end->bytes - history->at)
			want = (size_t)(end->bytes - history->at);
	}
	th_buf_drop(&history->line, history->used);
	history->used = 0;
	room = th_buf_room(&history->line, want);
	if (!room)
		return th_fail(err, TH_FAILED, "the log is damaged");
	got = pread(history->fd, room, want, history->at);
	if (got < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read the log");
	history->line.len += (size_t)got;
	history->at += got;
	return got > 0;
}

/* 1 where the next file is open now. The one before it is read to its end once
 * more first: it may have grown until the next was begun. */
static int next_file(struct th_history *history, struct th_error *err)
{
	int lowest, highest, rc;

	if (th_log_files(history->folder, history->base, &lowest, &highest) ||
		highest <= history->number)
		return 0;
	rc = read_more(history, err);
	if (rc)
		return rc;
	/* Those in between may have been given up meanwhile. */
	history->number =
		lowest > history->number ? lowest : history->number + 1;
	history->line.len = history->used = 0;
	open_file(history);
	return 1;
}

int th_history_next(struct th_history *history, struct th_log_entry *entry,
	struct th_error *err)
{
	const struct th_history_options *options = history->options;
	const char *line;
	size_t len;
	int rc;

	for (;;) {
		while (take_line(history, &line, &len)) {
			/* A line that a power cut has torn is passed over. */
			if (!is_wanted(options, line, len) ||
				is_before(options, line, len) ||
				th_log_parse(line, len, &history->text, entry))
				continue;
			if ((!options->since_us ||
				    entry->time_us >= options->since_us) &&
				(!options->until_us ||
					entry->time_us <= options->until_us))
				return 1;
		}
		rc = read_more(history, err);
		if (rc == 0)
			rc = next_file(history, err);
		if (rc <= 0)
			break;
	}
	/* The keeper's end is asked for before the last look. */
	if (rc == 0)
		history->over = !options->follow || history->keeper_gone;
	return rc;
}

bool th_history_over(struct th_history *history)
{
	if (!history->over && history->options->follow)
		history->keeper_gone =
			!th_keeper_lives(history->store->run_fd, history->id);
	return history->over ||
		(history->options->cancel &&
			atomic_load(history->options->cancel));
}

bool th_history_cut(const struct th_history *history)
{
	return history->cut;
}

void th_history_wait(struct th_history *history)
{
	struct pollfd changes = {.fd = history->changes, .events = POLLIN};
	char ignored[4096];

	if (history->keeper_gone)
		return;
	poll(&changes, 1, FOLLOW_MS);
	while (history->changes >= 0 &&
		read(history->changes, ignored, sizeof(ignored)) > 0)
		;
}

void th_history_close(struct th_history *history)
{
	if (!history)
		return;
	th_buf_release(&history->line);
	th_buf_release(&history->text);
	th_close(&history->fd);
	th_close(&history->folder);
	th_close(&history->changes);
	free(history);
}
