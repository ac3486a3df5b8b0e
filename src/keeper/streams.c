/* The program's streams: its output goes to the log and to attached clients,
 * their input goes to it. Nothing is dropped: while a client cannot take more,
 * the program waits, as it would with any reader. */
#include <errno.h>
#include <fcntl.h>
#include <linux/magic.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/ioctl.h>
#include <sys/vfs.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"
#include "keeper/scratch.h"

#define PIPE_BYTES (1024 * 1024)
/* Rounds of the loop in which one stream is read again at once. */
#define READS_IN_A_ROW 8

static void stream_ready(struct th_watch *watch, uint32_t events);

void keeper_streams_init(struct streams *streams)
{
	streams->out.fd = streams->err.fd = streams->in.fd = -1;
	streams->log.fd = streams->log.journal = -1;
	/* A client is not read while some of its input waits, so one message
	 * is the most that can be there; the rest is for several clients. */
	th_buf_init(&streams->pending, 16 * TH_CHANNEL_PAYLOAD);
}

/* ---- the log ---- */

int keeper_open_log(struct keeper *keeper, struct th_error *err)
{
	struct th_log *log = &keeper->streams.log;

	if (th_log_open(keeper->folder_fd, "log", &keeper->plan.log, log, err))
		return -1;
	log->id = keeper->id;
	log->name = keeper->row.name;
	return 0;
}

void keeper_watch_log(struct keeper *keeper)
{
	struct th_cause cause = {.kind = TH_CAUSE_LOG_AGAIN};
	struct th_log *log = &keeper->streams.log;

	if (log->failed == keeper->streams.log_reported)
		return;
	keeper->streams.log_reported = log->failed;
	if (log->failed) {
		cause.kind = TH_CAUSE_LOG_FAILED;
		snprintf(cause.text, sizeof(cause.text), ": %.200s",
			strerror(log->sys));
	} else {
		cause.number = (int64_t)log->lost;
		log->lost = 0;
	}
	keeper_note(keeper, &cause);
}

/* ---- the streams of one run ---- */

static int make_pipe(int pair[2], int ours)
{
	if (pipe2(pair, O_CLOEXEC))
		return -1;
	fcntl(pair[ours], F_SETFL, O_NONBLOCK);
	/* Refused beyond the user's limit: then it stays as it is. */
	fcntl(pair[0], F_SETPIPE_SZ, PIPE_BYTES);
	return 0;
}

void keeper_give_stream(
	const struct keeper *keeper, const struct th_process *process, int fd)
{
	struct statfs fs;

	/* A pipe without a name: what has one belongs to somebody. */
	if (fd >= 0 && fstatfs(fd, &fs) == 0 && fs.f_type == PIPEFS_MAGIC &&
		fchown(fd, keeper->own_ids.first + process->uid,
			keeper->own_ids.first + process->gid)) {
		/* Then only by their descriptors. */
	}
}

int keeper_make_streams(
	struct keeper *keeper, int inside[3], struct th_error *err)
{
	int in[2] = {-1, -1}, out[2] = {-1, -1}, fail[2] = {-1, -1};

	inside[0] = inside[1] = inside[2] = -1;
	if (keeper->bundle.process.terminal)
		return 0;
	if (keeper->input) {
		if (make_pipe(in, 1))
			goto fail;
	} else {
		in[0] = open("/dev/null", O_RDONLY | O_CLOEXEC);
		if (in[0] < 0)
			goto fail;
	}
	if (make_pipe(out, 0) || make_pipe(fail, 0))
		goto fail;
	keeper_give_stream(keeper, &keeper->bundle.process, in[0]);
	keeper_give_stream(keeper, &keeper->bundle.process, out[1]);
	keeper_give_stream(keeper, &keeper->bundle.process, fail[1]);
	inside[0] = in[0];
	inside[1] = out[1];
	inside[2] = fail[1];
	keeper->streams.in.fd = in[1];
	keeper->streams.out.fd = out[0];
	keeper->streams.err.fd = fail[0];
	return 0;
fail:
	th_fail_sys(err, TH_FAILED, errno, "cannot make the streams");
	for (int i = 0; i < 2; i++) {
		th_close(&in[i]);
		th_close(&out[i]);
		th_close(&fail[i]);
	}
	return -1;
}

static void watch_one(
	struct keeper *keeper, struct th_watch *watch, int fd, uint32_t events)
{
	watch->owner = keeper;
	watch->ready = stream_ready;
	if (fd >= 0 && th_loop_watch(&keeper->loop, watch, fd, events))
		close(fd);
}

void keeper_watch_streams(struct keeper *keeper)
{
	if (keeper->bundle.process.terminal) {
		int console = keeper->sandbox.console;

		keeper->sandbox.console = -1;
		fcntl(console, F_SETFL, O_NONBLOCK);
		keeper->streams.in.fd = -1;
		watch_one(keeper, &keeper->streams.out, console, EPOLLIN);
		return;
	}
	watch_one(
		keeper, &keeper->streams.out, keeper->streams.out.fd, EPOLLIN);
	watch_one(
		keeper, &keeper->streams.err, keeper->streams.err.fd, EPOLLIN);
	watch_one(keeper, &keeper->streams.in, keeper->streams.in.fd, 0);
}

static void close_stream(struct keeper *keeper, struct th_watch *watch)
{
	int fd = watch->fd;

	th_loop_forget(&keeper->loop, watch);
	th_close(&fd);
}

void keeper_close_streams(struct keeper *keeper)
{
	close_stream(keeper, &keeper->streams.out);
	close_stream(keeper, &keeper->streams.err);
	close_stream(keeper, &keeper->streams.in);
	th_buf_release(&keeper->streams.pending);
	if (keeper->streams.log.fd >= 0)
		th_log_end_lines(&keeper->streams.log);
}

void keeper_forget_streams(struct keeper *keeper)
{
	th_buf_release(&keeper->streams.pending);
	keeper->streams.in_end = false;
}

void keeper_drop_input(struct keeper *keeper)
{
	keeper->streams.in_end = true;
	keeper->streams.pending.len = 0;
}

void keeper_resize_console(struct keeper *keeper, const struct th_size *size)
{
	const struct winsize ws = {
		.ws_row = size->rows, .ws_col = size->columns};

	if (keeper->bundle.process.terminal && keeper->streams.out.fd >= 0)
		ioctl(keeper->streams.out.fd, TIOCSWINSZ, &ws);
}

bool keeper_streams_open(const struct keeper *keeper)
{
	return keeper->streams.out.fd >= 0 || keeper->streams.err.fd >= 0;
}

void keeper_update_streams(struct keeper *keeper)
{
	bool terminal = keeper->bundle.process.terminal;
	uint32_t read = keeper->clients.blocked ? 0 : EPOLLIN;
	uint32_t write = keeper->streams.pending.len ? EPOLLOUT : 0;

	th_loop_change(&keeper->loop, &keeper->streams.out,
		read | (terminal ? write : 0));
	th_loop_change(&keeper->loop, &keeper->streams.err, read);
	th_loop_change(&keeper->loop, &keeper->streams.in, write);
}

struct output {
	enum th_message_type type;
	const char *data;
	size_t len;
};

static void tell_output(struct client *client, const void *with)
{
	const struct output *output = with;

	if (client->attached)
		keeper_tell(client, output->type, output->data, output->len);
}

static void pass_on(struct keeper *keeper, enum th_stream stream,
	const char *data, size_t len)
{
	enum th_message_type type =
		stream == TH_STREAM_OUT ? TH_TELL_OUT : TH_TELL_ERR;

	th_log_write(&keeper->streams.log, stream, data, len);
	keeper_each_client(
		keeper, tell_output, &(struct output){type, data, len});
}

/* Not reading a client is what slows it down: its writes block. It is read
 * again once there is room. */
static void heed_input(struct client *client, const void *with)
{
	const struct keeper *keeper = with;

	if (client->attached && !client->pending)
		th_loop_change(&client->keeper->loop, &client->watch,
			keeper->streams.pending.len ? 0 : EPOLLIN);
}

/* Writes what clients have sent; an end of file follows the last of it. */
static void write_input(struct keeper *keeper)
{
	bool terminal = keeper->bundle.process.terminal;
	struct th_watch *watch =
		terminal ? &keeper->streams.out : &keeper->streams.in;

	while (keeper->streams.pending.len > 0 && watch->fd >= 0) {
		ssize_t done = write(watch->fd, keeper->streams.pending.data,
			keeper->streams.pending.len);

		if (done < 0 && errno == EINTR)
			continue;
		if (done < 0 && errno == EAGAIN)
			break;
		if (done < 0) {
			/* The program reads no more. */
			keeper_drop_input(keeper);
			break;
		}
		th_buf_drop(&keeper->streams.pending, (size_t)done);
	}
	if (!keeper->streams.pending.len && keeper->streams.in_end && !terminal)
		close_stream(keeper, &keeper->streams.in);
	keeper_update_streams(keeper);
	keeper_each_client(keeper, heed_input, keeper);
}

/* The screen as it is now is in the log up to this place, but for the lines
 * that have no end yet. */
void keeper_attach(struct client *client, const struct th_message *message)
{
	struct keeper *keeper = client->keeper;
	struct th_log_place place = th_log_place(&keeper->streams.log);
	char text[TH_LOG_PLACE_TEXT];

	(void)message;
	if (client->attached)
		return;
	th_log_place_format(&place, text);
	keeper_tell(client, TH_TELL_PLACE, text, strlen(text));
	for (int i = 0; i < 2; i++) {
		if (keeper->streams.log.partial[i].len)
			keeper_tell(client,
				i == TH_STREAM_OUT ? TH_TELL_OUT : TH_TELL_ERR,
				keeper->streams.log.partial[i].data,
				keeper->streams.log.partial[i].len);
	}
	client->attached = true;
	/* It may come and go without an end of the program's input. */
	client->left = true;
}

void keeper_take_input(
	struct keeper *keeper, const char *data, size_t len, bool end)
{
	if (keeper->streams.in.fd < 0 && !keeper->bundle.process.terminal)
		return;
	th_buf_add(&keeper->streams.pending, data, len);
	keeper->streams.in_end |= end;
	write_input(keeper);
}

static void read_stream(struct keeper *keeper, struct th_watch *watch)
{
	static _Alignas(APART) char data[TH_CHANNEL_PAYLOAD];
	enum th_stream stream =
		watch == &keeper->streams.err ? TH_STREAM_ERR : TH_STREAM_OUT;

	for (int i = 0; i < READS_IN_A_ROW && !keeper->clients.blocked; i++) {
		ssize_t got = read(watch->fd, data, sizeof(data));

		if (got > 0) {
			pass_on(keeper, stream, data, (size_t)got);
			continue;
		}
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0 && errno == EAGAIN)
			return;
		/* The end; a terminal says so by EIO. */
		close_stream(keeper, watch);
		return;
	}
}

/* What lies in the pipes by now; while an attached client cannot take more, it
 * stays there. */
void keeper_record(struct client *client, const struct th_message *message)
{
	struct keeper *keeper = client->keeper;

	(void)message;
	if (keeper->streams.out.fd >= 0)
		read_stream(keeper, &keeper->streams.out);
	if (keeper->streams.err.fd >= 0)
		read_stream(keeper, &keeper->streams.err);
	keeper_record_sessions(keeper);
	keeper_tell(client, TH_TELL_DONE, "", 0);
}

static void stream_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;

	if (watch == &keeper->streams.in) {
		if (events & EPOLLERR)
			keeper_drop_input(keeper);
		write_input(keeper);
		return;
	}
	if (events & EPOLLOUT)
		write_input(keeper);
	if (events & (EPOLLIN | EPOLLHUP | EPOLLERR) && watch->fd >= 0)
		read_stream(keeper, watch);
}
