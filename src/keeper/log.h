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
#ifndef TH_KEEPER_LOG_H
#define TH_KEEPER_LOG_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"

enum th_stream { TH_STREAM_OUT, TH_STREAM_ERR };

/* The longest run of bytes that goes into one entry. */
#define TH_LOG_LINE 16384

struct th_log {
	int fd;
	bool failed; /* a write failed: nothing more is written */
	int sys; /* why */
	struct th_buf entries; /* of the current call */
	struct th_buf partial[2]; /* of each stream: a line not ended yet */
	int64_t partial_us[2];
};

/* Opens the log in the container's folder for appending. */
int th_log_open(int folder, struct th_log *log, struct th_error *err);
/* Takes what the program wrote, with one time and one write for all of it.
 * A write that fails (a full disk) sets failed, and the container goes on. */
void th_log_write(struct th_log *log, enum th_stream stream, const char *data,
	size_t len);
/* Writes what is left of unfinished lines, and closes. */
void th_log_close(struct th_log *log);

/* One entry as it is read back. */
struct th_log_entry {
	int64_t time_us;
	enum th_stream stream;
	bool more;
	char *data; /* owned */
	size_t len;
};

/* Reads one line of the file (without its end); -1 where it is no entry. */
int th_log_parse(const char *line, size_t len, struct th_log_entry *entry);

#endif
