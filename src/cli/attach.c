#include "cli/attach.h"

#include <errno.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/signalfd.h>
#include <termios.h>
#include <unistd.h>

#include "base/file.h"

static struct termios saved;
static bool raw;

static void restore_terminal(void)
{
	if (raw)
		tcsetattr(0, TCSAFLUSH, &saved);
	raw = false;
}

static void make_raw(void)
{
	struct termios changed;

	if (tcgetattr(0, &saved))
		return;
	changed = saved;
	cfmakeraw(&changed);
	if (tcsetattr(0, TCSAFLUSH, &changed) == 0) {
		raw = true;
		atexit(restore_terminal);
	}
}

struct th_size attach_size(void)
{
	struct th_size size = {0, 0};
	struct winsize ws;

	if (ioctl(0, TIOCGWINSZ, &ws) == 0 || ioctl(1, TIOCGWINSZ, &ws) == 0) {
		size.rows = ws.ws_row;
		size.columns = ws.ws_col;
	}
	return size;
}

static void passed_signals(sigset_t *set)
{
	static const int numbers[] = {
		SIGINT, SIGTERM, SIGHUP, SIGQUIT, SIGUSR1, SIGUSR2, SIGWINCH};

	sigemptyset(set);
	for (size_t i = 0; i < sizeof(numbers) / sizeof(*numbers); i++)
		sigaddset(set, numbers[i]);
}

void attach_prepare(void)
{
	sigset_t set;

	passed_signals(&set);
	sigprocmask(SIG_BLOCK, &set, NULL);
}

static void handle_signal(const struct attach_options *options, int signals)
{
	struct signalfd_siginfo info;
	struct th_error ignored = {0};
	struct th_size size;

	if (read(signals, &info, sizeof(info)) != (ssize_t)sizeof(info))
		return;
	if (info.ssi_signo == SIGWINCH) {
		struct winsize ws = {0};

		size = attach_size();
		ws.ws_row = size.rows;
		ws.ws_col = size.columns;
		if (options->console >= 0)
			ioctl(options->console, TIOCSWINSZ, &ws);
		else
			th_channel_send(options->channel, TH_SAY_RESIZE, &size,
				sizeof(size), NULL, 0);
	} else if (options->pass_signals) {
		th_container_signal(options->context, options->row,
			(int)info.ssi_signo, &ignored);
	}
}

/* One piece of standard input; false at its end. */
static bool pass_input(const struct attach_options *options)
{
	static char data[32 * 1024];
	ssize_t got = read(0, data, sizeof(data));

	if (got < 0 && errno == EINTR)
		return true;
	if (got > 0 && options->console >= 0)
		return th_write_all(options->console, data, (size_t)got) == 0;
	if (got > 0)
		return th_channel_send(options->channel, TH_SAY_INPUT, data,
			       (size_t)got, NULL, 0) == 0;
	if (options->console < 0)
		th_channel_send(
			options->channel, TH_SAY_INPUT_END, NULL, 0, NULL, 0);
	return false;
}

static bool pass_console(const struct attach_options *options)
{
	static char data[32 * 1024];
	ssize_t got = read(options->console, data, sizeof(data));

	if (got < 0 && errno == EINTR)
		return true;
	/* EIO: the last program has let go of the terminal. */
	return got > 0 && th_write_all(1, data, (size_t)got) == 0;
}

/* 1 where the program has ended, 0 to go on, -1 where the channel ended. */
static int take_message(const struct attach_options *options,
	struct th_ending *ending, struct th_error *err)
{
	static struct th_message message;
	int fds[TH_CHANNEL_FDS], rc;

	rc = th_channel_receive(options->channel, &message, fds, err);
	if (rc <= 0)
		return -1;
	if (message.type == TH_TELL_OUT || message.type == TH_TELL_ERR)
		/* A reader that has gone must not take the program with it
		 * by a hard kill: it is told, as a pipe would tell. */
		th_write_all(message.type == TH_TELL_OUT ? 1 : 2, message.data,
			message.len);
	if (message.type == TH_TELL_ENDED && message.len == sizeof(*ending)) {
		memcpy(ending, message.data, sizeof(*ending));
		return 1;
	}
	return 0;
}

static int loop(const struct attach_options *options, int signals,
	struct th_ending *ending, struct th_error *err)
{
	struct pollfd set[4] = {{.fd = options->channel, .events = POLLIN},
		{.fd = signals, .events = POLLIN},
		{.fd = options->input ? 0 : -1, .events = POLLIN},
		{.fd = options->console, .events = POLLIN}};
	int rc = 0;

	while (rc == 0 || (rc > 0 && set[3].fd >= 0)) {
		if (poll(set, 4, -1) < 0 && errno != EINTR)
			break;
		if (set[1].revents)
			handle_signal(options, signals);
		/* A session's terminal is read to its end before the end of
		 * the session counts. */
		if (set[3].revents && !pass_console(options))
			set[3].fd = -1;
		if (set[2].revents && !pass_input(options))
			set[2].fd = -1;
		if (rc == 0 && set[0].revents)
			rc = take_message(options, ending, err);
		if (rc)
			set[0].fd = -1;
	}
	return rc;
}

int attach_run(const struct attach_options *options, struct th_ending *ending,
	struct th_error *err)
{
	sigset_t set;
	int signals, rc;

	passed_signals(&set);
	signals = signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
	if (options->terminal)
		make_raw();
	rc = loop(options, signals, ending, err);
	restore_terminal();
	th_close(&signals);
	return rc < 0 && !err->code ? 0 : rc;
}

int attach_exit_code(const struct th_ending *ending)
{
	return ending->outcome == TH_OUTCOME_SIGNAL ? 128 + ending->code
						    : ending->code;
}
