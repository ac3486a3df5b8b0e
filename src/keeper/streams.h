/* The program's streams: to the log and to attached clients. */
#ifndef TH_KEEPER_STREAMS_H
#define TH_KEEPER_STREAMS_H

#include <stdbool.h>

#include "base/loop.h"
#include "container/log.h"
#include "ipc/channel.h"
#include "oci/bundle.h"

struct client;
struct keeper;

struct streams {
	struct th_watch out, err; /* the console is out alone */
	struct th_watch in; /* the program's input, while we write */
	struct th_buf pending; /* input that it has not read yet */
	bool in_end;
	struct th_log log; /* from the first run to the last */
	bool log_reported;
};

void keeper_streams_init(struct streams *streams);
int keeper_open_log(struct keeper *keeper, struct th_error *err);
/* Recorded once when it fails and when it is well again; the container goes on.
 */
void keeper_watch_log(struct keeper *keeper);
int keeper_make_streams(
	struct keeper *keeper, int inside[3], struct th_error *err);
/* Programs that open /dev/stdout by its name need the right to it. */
void keeper_give_stream(
	const struct keeper *keeper, const struct th_process *process, int fd);
void keeper_watch_streams(struct keeper *keeper);
void keeper_update_streams(struct keeper *keeper);
void keeper_take_input(
	struct keeper *keeper, const char *data, size_t len, bool end);
/* Nobody is left to read the input. */
void keeper_drop_input(struct keeper *keeper);
bool keeper_streams_open(const struct keeper *keeper);
void keeper_close_streams(struct keeper *keeper);
/* What a run has left in memory. */
void keeper_forget_streams(struct keeper *keeper);
void keeper_resize_console(struct keeper *keeper, const struct th_size *size);
/* Makes a client one that gets the output, from this moment on; the place in
 * the log where it begins is told first. */
void keeper_attach(struct client *client, const struct th_message *message);
/* Writes what the program has written to the log, and says so. */
void keeper_record(struct client *client, const struct th_message *message);

#endif
