/* The program's streams: its output goes to the log and to attached clients,
 * their input goes to it. Nothing is dropped: while a client cannot take more,
 * the program waits, as it would with any reader. */
#include <errno.h>
#include <fcntl.h>
#include <linux/magic.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/vfs.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"

#define PIPE_BYTES (1024 * 1024)
/* Rounds of the loop in which one stream is read again at once. */
#define READS_IN_A_ROW 8

static void stream_ready(struct th_watch *watch, uint32_t events);

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
		fchown(fd, keeper->first_id + process->uid,
			keeper->first_id + process->gid)) {
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
	keeper->in.fd = in[1];
	keeper->out.fd = out[0];
	keeper->err.fd = fail[0];
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
		keeper->in.fd = -1;
		watch_one(keeper, &keeper->out, console, EPOLLIN);
		return;
	}
	watch_one(keeper, &keeper->out, keeper->out.fd, EPOLLIN);
	watch_one(keeper, &keeper->err, keeper->err.fd, EPOLLIN);
	watch_one(keeper, &keeper->in, keeper->in.fd, 0);
}

static void close_stream(struct keeper *keeper, struct th_watch *watch)
{
	int fd = watch->fd;

	th_loop_forget(&keeper->loop, watch);
	th_close(&fd);
}

void keeper_close_streams(struct keeper *keeper)
{
	close_stream(keeper, &keeper->out);
	close_stream(keeper, &keeper->err);
	close_stream(keeper, &keeper->in);
	th_buf_release(&keeper->in_pending);
}

bool keeper_streams_open(const struct keeper *keeper)
{
	return keeper->out.fd >= 0 || keeper->err.fd >= 0;
}

void keeper_update_streams(struct keeper *keeper)
{
	bool terminal = keeper->bundle.process.terminal;
	uint32_t read = keeper->blocked ? 0 : EPOLLIN;
	uint32_t write = keeper->in_pending.len ? EPOLLOUT : 0;

	th_loop_change(
		&keeper->loop, &keeper->out, read | (terminal ? write : 0));
	th_loop_change(&keeper->loop, &keeper->err, read);
	th_loop_change(&keeper->loop, &keeper->in, write);
}

static void pass_on(struct keeper *keeper, enum th_stream stream,
	const char *data, size_t len)
{
	struct client *next;

	th_log_write(&keeper->log, stream, data, len);
	for (struct client *at = keeper->clients; at; at = next) {
		next = at->next;
		if (at->attached)
			keeper_tell(at,
				stream == TH_STREAM_OUT ? TH_TELL_OUT
							: TH_TELL_ERR,
				data, len);
	}
}

/* Writes what clients have sent; an end of file follows the last of it. */
static void write_input(struct keeper *keeper)
{
	bool terminal = keeper->bundle.process.terminal;
	struct th_watch *watch = terminal ? &keeper->out : &keeper->in;

	while (keeper->in_pending.len > 0 && watch->fd >= 0) {
		ssize_t done = write(watch->fd, keeper->in_pending.data,
			keeper->in_pending.len);

		if (done < 0 && errno == EINTR)
			continue;
		if (done < 0 && errno == EAGAIN)
			break;
		if (done < 0) {
			/* The program reads no more. */
			keeper->in_pending.len = 0;
			keeper->in_end = true;
			break;
		}
		th_buf_drop(&keeper->in_pending, (size_t)done);
	}
	if (!keeper->in_pending.len && keeper->in_end && !terminal)
		close_stream(keeper, &keeper->in);
	keeper_update_streams(keeper);
	/* Not reading a client is what slows it down: its writes block. */
	/* Clients are read again once there is room. */
	for (struct client *at = keeper->clients; at; at = at->next) {
		if (at->attached && !at->pending)
			th_loop_change(&keeper->loop, &at->watch,
				keeper->in_pending.len ? 0 : EPOLLIN);
	}
}

/* The screen as it is now is in the log up to this place, but for the lines
 * that have no end yet. */
void keeper_attach(struct client *client, const struct th_message *message)
{
	struct keeper *keeper = client->keeper;
	struct th_log_place place = th_log_place(&keeper->log);
	char text[TH_LOG_PLACE_TEXT];

	(void)message;
	if (client->attached)
		return;
	th_log_place_format(&place, text);
	keeper_tell(client, TH_TELL_PLACE, text, strlen(text));
	for (int i = 0; i < 2; i++) {
		if (keeper->log.partial[i].len)
			keeper_tell(client,
				i == TH_STREAM_OUT ? TH_TELL_OUT : TH_TELL_ERR,
				keeper->log.partial[i].data,
				keeper->log.partial[i].len);
	}
	client->attached = true;
	/* It may come and go without an end of the program's input. */
	client->left = true;
}

void keeper_take_input(
	struct keeper *keeper, const char *data, size_t len, bool end)
{
	if (keeper->in.fd < 0 && !keeper->bundle.process.terminal)
		return;
	th_buf_add(&keeper->in_pending, data, len);
	keeper->in_end |= end;
	write_input(keeper);
}

static void read_stream(struct keeper *keeper, struct th_watch *watch)
{
	static char data[TH_CHANNEL_PAYLOAD];
	enum th_stream stream =
		watch == &keeper->err ? TH_STREAM_ERR : TH_STREAM_OUT;

	for (int i = 0; i < READS_IN_A_ROW && !keeper->blocked; i++) {
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
void keeper_record(struct client *client)
{
	struct keeper *keeper = client->keeper;

	if (keeper->out.fd >= 0)
		read_stream(keeper, &keeper->out);
	if (keeper->err.fd >= 0)
		read_stream(keeper, &keeper->err);
	keeper_record_sessions(keeper);
	keeper_tell(client, TH_TELL_DONE, "", 0);
}

static void stream_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;

	if (watch == &keeper->in) {
		if (events & EPOLLERR) {
			keeper->in_pending.len = 0;
			keeper->in_end = true;
		}
		write_input(keeper);
		return;
	}
	if (events & EPOLLOUT)
		write_input(keeper);
	if (events & (EPOLLIN | EPOLLHUP | EPOLLERR) && watch->fd >= 0)
		read_stream(keeper, watch);
}
