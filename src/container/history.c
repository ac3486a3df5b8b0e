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
#include "keeper/lock.h"
#include "keeper/plan.h"

#define READ_BYTES (256 * 1024)
#define FOLLOW_MS 250
/* More than the longest entry in its written form. */
#define LINE_MAX_BYTES (8 * TH_LOG_LINE)

struct reader {
	const struct th_history_options *options;
	bool (*take)(void *owner, const struct th_log_entry *entry);
	void *owner;
	int fd;
	struct th_buf line; /* what is read and not yet complete */
	bool done;
};

static void take_line(struct reader *reader, const char *line, size_t len)
{
	const struct th_history_options *options = reader->options;
	struct th_log_entry entry;

	/* A line that a power cut has torn is passed over. */
	if (th_log_parse(line, len, &entry))
		return;
	if ((!options->since_us || entry.time_us >= options->since_us) &&
		(!options->until_us || entry.time_us <= options->until_us) &&
		!reader->take(reader->owner, &entry))
		reader->done = true;
	free(entry.data);
}

/* Reads what is there by now; 1 where something was, 0, -1. */
static int read_more(struct reader *reader, struct th_error *err)
{
	char *room, *end;
	ssize_t got;
	size_t used = 0;

	room = th_buf_room(&reader->line, READ_BYTES);
	if (!room)
		return th_fail(err, TH_FAILED, "the log is damaged");
	got = read(reader->fd, room, READ_BYTES);
	if (got < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read the log");
	reader->line.len += (size_t)got;
	while (!reader->done &&
		(end = memchr(reader->line.data + used, '\n',
			 reader->line.len - used))) {
		size_t len = (size_t)(end - reader->line.data) - used;

		take_line(reader, reader->line.data + used, len);
		used += len + 1;
	}
	th_buf_drop(&reader->line, used);
	return got > 0;
}

/* Places the file where the last entries begin. */
static int seek_last(struct reader *reader, struct th_error *err)
{
	long wanted = reader->options->last + 1;
	char data[65536];
	struct stat st;
	off_t at;

	if (reader->options->last < 0)
		return 0;
	if (fstat(reader->fd, &st))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read the log");
	at = st.st_size;
	while (at > 0) {
		off_t from =
			at > (off_t)sizeof(data) ? at - (off_t)sizeof(data) : 0;
		ssize_t got =
			pread(reader->fd, data, (size_t)(at - from), from);

		if (got <= 0)
			return th_fail_sys(
				err, TH_FAILED, errno, "cannot read the log");
		while (got > 0) {
			if (data[--got] == '\n' && --wanted == 0) {
				lseek(reader->fd, from + got + 1, SEEK_SET);
				return 0;
			}
		}
		at = from;
	}
	return 0;
}

static bool cancelled(const struct reader *reader)
{
	return reader->done ||
		(reader->options->cancel &&
			atomic_load(reader->options->cancel));
}

/* Waits for more until the keeper has gone and all was read. */
static int follow(struct reader *reader, struct th_store *store, const char *id,
	struct th_error *err)
{
	struct pollfd changes = {.events = POLLIN};
	char path[TH_FD_PATH], ignored[4096];
	bool keeper = true;
	int pid, rc = 0;

	changes.fd = inotify_init1(IN_CLOEXEC | IN_NONBLOCK);
	if (changes.fd >= 0)
		inotify_add_watch(changes.fd, th_fd_path(reader->fd, "", path),
			IN_MODIFY | IN_CLOSE_WRITE);
	while (!cancelled(reader)) {
		/* Asked before the last read, so that nothing is missed. */
		bool last = !keeper;

		rc = read_more(reader, err);
		if (rc < 0 || (rc == 0 && last))
			break;
		if (rc > 0)
			continue;
		poll(&changes, 1, FOLLOW_MS);
		while (read(changes.fd, ignored, sizeof(ignored)) > 0)
			;
		keeper = th_lock_held(store->run_fd, id, &pid);
	}
	th_close(&changes.fd);
	return rc < 0 ? -1 : 0;
}

int th_history_read(struct th_store *store, const char *id,
	const struct th_history_options *options,
	bool (*take)(void *owner, const struct th_log_entry *entry),
	void *owner, struct th_error *err)
{
	struct reader reader = {
		.options = options, .take = take, .owner = owner};
	char path[96];
	int rc;

	snprintf(path, sizeof(path), "containers/%s/" TH_LOG_NAME, id);
	/* A container that was never started may be followed all the same. */
	reader.fd = openat(store->root_fd, path,
		O_RDONLY | O_CLOEXEC | (options->follow ? O_CREAT : 0), 0600);
	if (reader.fd < 0)
		return errno == ENOENT ? 0
				       : th_fail_sys(err, TH_FAILED, errno,
						 "cannot open the log");
	th_buf_init(&reader.line, LINE_MAX_BYTES + 2 * READ_BYTES);
	rc = seek_last(&reader, err);
	while (rc == 0 && !cancelled(&reader)) {
		rc = read_more(&reader, err);
		if (rc <= 0)
			break;
		rc = 0;
	}
	if (rc == 0 && options->follow)
		rc = follow(&reader, store, id, err);
	th_buf_release(&reader.line);
	th_close(&reader.fd);
	return rc < 0 ? -1 : 0;
}
