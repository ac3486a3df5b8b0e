/* The log of a container: JSON Lines (docs/formats.md), a line for each line
 * that the program wrote:
 *
 *   {"at":1772341964123456,"out":"High water at 05:12"}
 *   {"at":1772341964123460,"err":"no reading for","more":true}
 *   {"at":1772341964123460,"err64":"/4A="}
 *
 * "at" is in microseconds since 1970; "more" says that the line goes on in
 * the next entry of the stream; text that is not valid UTF-8 is kept byte by
 * byte in base 64. */
#ifndef TH_CONTAINER_LOG_H
#define TH_CONTAINER_LOG_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "model/log_settings.h"

enum th_stream { TH_STREAM_OUT, TH_STREAM_ERR };

/* The longest run of bytes that goes into one entry. */
#define TH_LOG_LINE 16384

/* A place in a log: a file of it, and a byte there. */
struct th_log_place {
	int32_t number;
	int64_t bytes;
};

/* "NUMBER BYTES", and back; false where it is none. */
#define TH_LOG_PLACE_TEXT 40
void th_log_place_format(
	const struct th_log_place *place, char text[TH_LOG_PLACE_TEXT]);
bool th_log_place_parse(const char *text, struct th_log_place *place);

#define TH_LOG_FILE 64
/* What the base of a session's log begins with; its ID follows. */
#define TH_SESSION_LOG "session-"
/* The name of a log's file: "log.jsonl" is number 0, "log.7.jsonl" the
 * seventh that followed. */
void th_log_file(const char *base, int number, char name[TH_LOG_FILE]);
/* The lowest and highest number that is there; -1 where there is none. */
int th_log_files(int folder, const char *base, int *lowest, int *highest);

/* What an entry begins with. */
struct th_log_head {
	int64_t time_us;
	size_t len;
	char text[40];
};

struct th_log {
	int folder; /* borrowed */
	char base[48];
	struct th_log_settings settings;
	int fd;
	int number; /* of the file that is written */
	int64_t bytes; /* in it */
	bool failed; /* the last write failed; tried again every second */
	int sys; /* why */
	int64_t failed_ms;
	uint64_t lost; /* entries, since it failed */
	struct th_buf entries; /* of the current call */
	uint64_t entry_count;
	struct th_log_head heads[2]; /* of each stream: the last ones */
	struct th_buf partial[2]; /* of each stream: a line not ended yet */
	int64_t partial_us[2];
	int journal; /* a socket, or -1 */
	const char *id, *name; /* for the journal; borrowed */
};

/* Opens the log in the container's folder for appending; base is "log" for
 * the container's own. */
int th_log_open(int folder, const char *base,
	const struct th_log_settings *settings, struct th_log *log,
	struct th_error *err);
/* Takes what the program wrote, with one time and one write for all of it.
 * A write that fails (a full disk) sets failed, and the container goes on. */
void th_log_write(struct th_log *log, enum th_stream stream, const char *data,
	size_t len);
/* Writes what is left of unfinished lines. */
void th_log_end_lines(struct th_log *log);
/* Where the next entry will stand. */
struct th_log_place th_log_place(const struct th_log *log);
/* Writes what is left of unfinished lines, and closes. */
void th_log_close(struct th_log *log);

/* One entry as it is read back. */
struct th_log_entry {
	int64_t time_us;
	enum th_stream stream;
	bool more;
	const char *data; /* borrowed, of the line or of what was given */
	size_t len;
};

/* Reads one line of the file (without its end); -1 where it is no entry. What
 * has to be decoded goes into text, whose limit must be TH_LOG_LINE at least;
 * the entry is valid until line or text changes. */
int th_log_parse(const char *line, size_t len, struct th_buf *text,
	struct th_log_entry *entry);
/* Its time alone, where it is written as th_log_write does; -1 otherwise. */
int64_t th_log_time(const char *line, size_t len);

#endif
