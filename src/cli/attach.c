#include "cli/attach.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/signalfd.h>
#include <termios.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/guard.h"
#include "cli/doc.h"
#include "cli/output.h"

static struct termios saved;
static bool raw;
static int guard = -1; /* the end of a pipe to the guard */

static void put_right(void *unused)
{
	(void)unused;
	if (th_guard_hears() < 0)
		tcsetattr(0, TCSAFLUSH, &saved);
}

static void restore_terminal(void)
{
	if (raw)
		tcsetattr(0, TCSAFLUSH, &saved);
	raw = false;
	th_guard_dismiss(&guard);
}

static void make_raw(void)
{
	struct termios changed;

	if (tcgetattr(0, &saved))
		return;
	/* Without one, a kill leaves the terminal as it is. */
	th_guard_post(put_right, NULL, &guard);
	changed = saved;
	cfmakeraw(&changed);
	if (tcsetattr(0, TCSAFLUSH, &changed) == 0) {
		raw = true;
		atexit(restore_terminal);
	}
}

struct th_terminal_size attach_size(void)
{
	struct th_terminal_size size = {0, 0};
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

static void pass_size(th_talk *talk)
{
	struct th_terminal_size size = attach_size();
	struct winsize ws = {.ws_row = size.rows, .ws_col = size.columns};

	if (th_talk_console(talk) >= 0)
		ioctl(th_talk_console(talk), TIOCSWINSZ, &ws);
	else
		th_talk_resize(talk, size);
}

/* False where the signal says that it is enough. */
static bool handle_signal(const struct attach_options *options, int signals)
{
	struct signalfd_siginfo info;

	if (read(signals, &info, sizeof(info)) != (ssize_t)sizeof(info))
		return true;
	if (info.ssi_signo == SIGWINCH)
		pass_size(options->talk);
	else if (options->pass_signals)
		th_talk_signal(options->talk, (int)info.ssi_signo);
	else if (options->leaves_by_signal)
		return false;
	return true;
}

enum input { INPUT_MORE, INPUT_END, INPUT_LEAVE };

static bool give(
	const struct attach_options *options, const char *data, size_t len)
{
	if (len == 0)
		return true;
	if (th_talk_console(options->talk) >= 0)
		return th_write_all(
			       th_talk_console(options->talk), data, len) == 0;
	return th_talk_input(options->talk, data, len) == 0;
}

/* One piece of standard input. */
static enum input pass_input(const struct attach_options *options)
{
	static char data[32 * 1024], out[32 * 1024 + LEAVE_KEYS_MAX];
	ssize_t got = read(0, data, sizeof(data));
	size_t len;

	if (got < 0 && errno == EINTR)
		return INPUT_MORE;
	if (got > 0 && options->leave && options->terminal) {
		bool leave = leave_keys_take(
			options->leave, data, (size_t)got, out, &len);

		if (!give(options, out, len))
			return INPUT_END;
		return leave ? INPUT_LEAVE : INPUT_MORE;
	}
	if (got > 0)
		return give(options, data, (size_t)got) ? INPUT_MORE
							: INPUT_END;
	if (th_talk_console(options->talk) < 0)
		th_talk_input(options->talk, NULL, 0);
	return INPUT_END;
}

static bool pass_console(const struct attach_options *options)
{
	static char data[32 * 1024];
	ssize_t got = read(th_talk_console(options->talk), data, sizeof(data));

	if (got < 0 && errno == EINTR)
		return true;
	/* EIO: the last program has let go of the terminal. */
	return got > 0 && th_write_all(1, data, (size_t)got) == 0;
}

/* What a screen is cleared by: the output from the last of them on is what was
 * to be seen. */
static const char *screen_begin(const char *text, size_t len, int rows)
{
	static const char *const clears[] = {
		"\033[2J", "\033c", "\033[?1049h", "\033[H\033[J"};
	const char *best = NULL, *at = text + len;

	for (size_t i = 0; i < sizeof(clears) / sizeof(*clears); i++) {
		size_t size = strlen(clears[i]);

		for (const char *look = text;
			(look = memmem(look, (size_t)(text + len - look),
				 clears[i], size));
			look += size) {
			if (!best || look > best)
				best = look;
		}
	}
	if (best)
		return best;
	/* Otherwise as many lines as there is room for. */
	for (int left = rows > 2 ? rows - 1 : 24; at > text && left > 0;) {
		at--;
		if (*at == '\n' && at < text + len - 1 && --left == 0)
			return at + 1;
	}
	return text;
}

/* Draws what was there before: from the log, as far as it has it. */
static void redraw(const struct th_news *before)
{
	const char *text = before->text, *from;

	if (!before->bytes)
		return;
	from = screen_begin(text, before->bytes, attach_size().rows);
	th_write_all(1, from, (size_t)(text + before->bytes - from));
}

/* Said between two runs of the program. */
static void tell_again(const char *name, const struct th_news *news)
{
	char span[TH_TIME_TEXT], text[256];
	int len;

	th_clock_span((int64_t)news->wait_ms * 1000, span);
	len = snprintf(text, sizeof(text),
		"%s%.100s ended (%s %d); restarting in %s%s\n",
		raw ? "\r\n" : "", name,
		news->by_signal ? "signal" : "exit code", news->code, span,
		raw ? "\r" : "");
	th_write_all(2, text, (size_t)len);
}

/* 1 where the program has ended, 0 to go on, -1 where the talk ended. */
static int take_news(const struct attach_options *options, struct th_news *news,
	struct th_error *err)
{
	if (th_talk_next(options->talk, news, err) != 1)
		return -1;
	switch (news->told) {
	case TH_TOLD_OUT:
	case TH_TOLD_ERR:
		/* A reader that has gone must not take the program with it
		 * by a hard kill: it is told, as a pipe would tell. */
		th_write_all(news->told == TH_TOLD_OUT ? 1 : 2, news->text,
			news->bytes);
		break;
	case TH_TOLD_BEFORE:
		redraw(news);
		break;
	case TH_TOLD_AGAIN:
		tell_again(options->name, news);
		break;
	case TH_TOLD_ENDED:
		return 1;
	case TH_TOLD_NOTHING:
		break;
	}
	return 0;
}

static int loop(const struct attach_options *options, int signals,
	struct th_news *end, struct th_error *err)
{
	struct pollfd set[4] = {
		{.fd = th_talk_descriptor(options->talk), .events = POLLIN},
		{.fd = signals, .events = POLLIN},
		{.fd = options->input ? 0 : -1, .events = POLLIN},
		{.fd = th_talk_console(options->talk), .events = POLLIN}};
	int rc = 0;

	while (rc == 0 || (rc > 0 && set[3].fd >= 0)) {
		if (poll(set, 4, -1) < 0 && errno != EINTR)
			break;
		if (set[1].revents && !handle_signal(options, signals))
			return ATTACH_LEFT;
		/* A session's terminal is read to its end before the end of
		 * the session counts. */
		if (set[3].revents && !pass_console(options))
			set[3].fd = -1;
		if (set[2].revents) {
			enum input input = pass_input(options);

			if (input == INPUT_LEAVE)
				return ATTACH_LEFT;
			if (input == INPUT_END)
				set[2].fd = -1;
		}
		if (rc == 0 && set[0].revents)
			rc = take_news(options, end, err);
		if (rc)
			set[0].fd = -1;
	}
	return rc;
}

int attach_run(const struct attach_options *options, struct th_news *end,
	struct th_error *err)
{
	sigset_t set;
	int signals, rc;

	passed_signals(&set);
	signals = signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
	if (options->terminal)
		make_raw();
	rc = loop(options, signals, end, err);
	if (rc == ATTACH_LEFT && th_talk_console(options->talk) < 0)
		th_talk_leave(options->talk);
	if (raw && rc == ATTACH_LEFT)
		th_write_all(1, "\r\n", 2);
	restore_terminal();
	th_close(&signals);
	return rc < 0 && !err->code ? 0 : rc;
}

int attach_keys(
	struct invocation *call, struct leave_keys *keys, struct th_error *err)
{
	const char *text = option_value(call, "leave-keys");
	json_t *about = NULL;
	int rc = 0;

	if (!text)
		rc = th_hull_about(call->hull, &about, err);
	if (!text && *doc_text(about, "leave-keys"))
		text = doc_text(about, "leave-keys");
	if (rc == 0)
		rc = leave_keys_parse(
			text ? text : LEAVE_KEYS_DEFAULT, keys, err);
	json_decref(about);
	return rc;
}

int attach_code(struct invocation *call, const struct attach_options *options,
	int rc, const struct th_news *end, struct th_error *err)
{
	if (rc == ATTACH_LEFT) {
		if (!call->quiet)
			fprintf(stderr,
				"detached; %s is still running. To return: "
				"tidyhull attach %s\n",
				options->name, options->name);
		return EXIT_DONE;
	}
	/* A bare 137 has sent people looking for who had killed it. */
	if (rc > 0 && end->out_of_memory && !call->quiet)
		fprintf(stderr,
			"note: the kernel has killed %s: it ran out of "
			"memory\n  --limit memory=SIZE sets what it may have "
			"(exit code %d)\n",
			options->name, end->exit_code);
	if (rc > 0)
		return end->exit_code;
	if (rc == 0)
		th_fail(err, TH_FAILED,
			"the container's keeper was killed, and the container "
			"with it");
	say_error(err);
	return EXIT_TOOL;
}

int attach_failure(const struct th_error *err)
{
	return err->code == TH_NO_PROGRAM ? EXIT_NO_PROGRAM
		: err->code == TH_NO_EXEC ? EXIT_NO_EXEC
					  : EXIT_TOOL;
}
