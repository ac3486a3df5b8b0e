/* A container in the foreground, from its creation to its removal. */
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/signalfd.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

#include "base/file.h"
#include "base/guard.h"
#include "runtime/owner.h"
#include "runtime/record.h"
#include "sandbox/deliver.h"

#define PIECE 65536
/* How often the guard tries to remove what was left. */
#define GUARD_TRIES 10

struct running {
	const struct th_runtime_options *options;
	int guard; /* the end of a pipe to the guard */
	int signals;
	int console; /* -1 without a terminal */
	struct termios saved; /* of our terminal, where there is one */
	bool has_terminal, raw; /* it passes everything on */
	bool input; /* there may be more */
	pid_t pid;
	int pidfd;
	bool is_first; /* of a PID namespace */
	int stands_for;
};

/* ---- what is left where this process is killed ---- */

static void restore_terminal(const struct running *running)
{
	if (running->raw)
		tcsetattr(0, TCSANOW, &running->saved);
}

/* Hears when there is nothing to do. A container of this ID may be somebody
 * else's: the token tells. */
static void guard(void *owner)
{
	struct running *running = owner;
	const struct th_runtime_options *options = running->options;
	int lock = -1;
	bool ours;

	if (th_guard_hears() >= 0)
		return;
	/* Whether it was changed since is not known here. */
	running->raw = running->has_terminal;
	restore_terminal(running);
	owner_sweep(options->dir, options->id, options->run);
	ours = owner_take_over(options->dir, options->id, options->run, &lock);
	/* Nobody else will do it: what holds it up (a process that is deep in
	 * the kernel, say) is waited for. */
	for (int tries = 0; ours && tries < GUARD_TRIES; tries++) {
		struct th_error err = {0};

		if (th_runtime_delete(
			    options->dir, options->id, true, NULL, &err) == 0 ||
			err.code == TH_NOT_FOUND)
			break;
		sleep(1);
	}
	th_close(&lock);
}

static int post_guard(struct running *running, struct th_error *err)
{
	return th_guard_post(guard, running, &running->guard)
		? th_fail_sys(err, TH_FAILED, errno,
			  "cannot start the container's guard")
		: 0;
}

/* ---- while it runs ---- */

static void passed_signals(sigset_t *set)
{
	static const int numbers[] = {SIGINT, SIGTERM, SIGHUP, SIGQUIT, SIGUSR1,
		SIGUSR2, SIGALRM, SIGCONT, SIGWINCH};

	sigemptyset(set);
	for (size_t i = 0; i < sizeof(numbers) / sizeof(*numbers); i++)
		sigaddset(set, numbers[i]);
}

static int watch_signals(struct running *running, struct th_error *err)
{
	sigset_t set;

	passed_signals(&set);
	sigprocmask(SIG_BLOCK, &set, NULL);
	running->signals = signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
	return running->signals >= 0 ? 0
				     : th_fail_sys(err, TH_FAILED, errno,
					       "cannot watch for signals");
}

static void copy_size(const struct running *running)
{
	struct winsize size;

	if (running->console >= 0 && ioctl(0, TIOCGWINSZ, &size) == 0 &&
		size.ws_row)
		ioctl(running->console, TIOCSWINSZ, &size);
}

static void take_terminal(struct running *running)
{
	struct termios raw;

	if (running->console < 0 || !running->has_terminal)
		return;
	raw = running->saved;
	cfmakeraw(&raw);
	running->raw = true;
	copy_size(running);
	tcsetattr(0, TCSAFLUSH, &raw);
}

static void pass_signal(struct running *running)
{
	struct signalfd_siginfo info;
	int instead;

	if (read(running->signals, &info, sizeof(info)) !=
		(ssize_t)sizeof(info))
		return;
	if (info.ssi_signo == SIGWINCH && running->console >= 0) {
		copy_size(running);
		return;
	}
	instead = th_deliver(running->pid, running->pidfd, running->is_first,
		(int)info.ssi_signo);
	if (instead)
		running->stands_for = instead;
}

/* False where there is no more. */
static bool pass_on(int from, int to)
{
	static char data[PIECE];
	ssize_t got = read(from, data, sizeof(data));

	if (got < 0 && (errno == EINTR || errno == EAGAIN))
		return true;
	return got > 0 && th_write_all(to, data, (size_t)got) == 0;
}

/* What the program has written before its end is still in the terminal. */
static void drain(struct running *running)
{
	struct pollfd one = {.fd = running->console, .events = POLLIN};

	while (one.fd >= 0 && poll(&one, 1, 0) > 0 &&
		pass_on(running->console, 1))
		;
}

static void attend(struct running *running)
{
	enum { SIGNALS, PROCESS, CONSOLE, INPUT, COUNT };

	for (;;) {
		struct pollfd all[COUNT] = {
			{.fd = running->signals, .events = POLLIN},
			{.fd = running->pidfd, .events = POLLIN},
			{.fd = running->console, .events = POLLIN},
			{.fd = running->console >= 0 && running->input ? 0 : -1,
				.events = POLLIN}};

		if (poll(all, COUNT, -1) < 0)
			continue;
		if (all[SIGNALS].revents)
			pass_signal(running);
		if (all[CONSOLE].revents && !pass_on(running->console, 1))
			th_close(&running->console);
		if (all[INPUT].revents)
			running->input = pass_on(0, running->console);
		if (all[PROCESS].revents)
			break;
	}
	drain(running);
}

static int find_process(struct running *running, struct th_error *err)
{
	struct record record;
	int rc = record_open(running->options->dir, running->options->id, true,
		&record, err);

	running->pid = record.pid;
	running->is_first = record.bundle.namespaces & CLONE_NEWPID;
	record_release(&record);
	/* Our own child: its number is nobody else's before we wait for it. */
	running->pidfd =
		rc == 0 ? (int)syscall(SYS_pidfd_open, running->pid, 0) : -1;
	if (rc == 0 && running->pidfd < 0)
		rc = th_fail_sys(
			err, TH_FAILED, errno, "cannot watch the container");
	return rc;
}

static int exit_code(const struct running *running)
{
	int status = 0;

	while (waitpid(running->pid, &status, 0) < 0 && errno == EINTR)
		;
	if (WIFEXITED(status))
		return WEXITSTATUS(status);
	return 128 +
		(running->stands_for && WTERMSIG(status) == SIGKILL
				? running->stands_for
				: WTERMSIG(status));
}

/* One whose start has failed: until it is waited for it holds its group. */
static void reap(struct running *running)
{
	if (running->pidfd < 0)
		return;
	syscall(SYS_pidfd_send_signal, running->pidfd, SIGKILL, NULL, 0);
	exit_code(running);
}

static int start(
	struct running *running, struct th_error *warning, struct th_error *err)
{
	const struct th_runtime_options *options = running->options;

	if (find_process(running, err))
		return -1;
	take_terminal(running);
	return th_runtime_start(options->dir, options->id, warning, err);
}

int th_runtime_run(const struct th_runtime_options *given, int *code,
	struct th_error *warning, struct th_error *err)
{
	struct th_runtime_options options = *given;
	struct running running = {.options = &options,
		.guard = -1,
		.signals = -1,
		.console = -1,
		.pidfd = -1,
		.input = true};
	struct th_error later = {0};
	char token[OWNER_TOKEN];
	int lock = -1, rc = -1;

	owner_token(token);
	options.console_socket = "";
	options.console = &running.console;
	options.run = token;
	options.run_lock = &lock;
	running.has_terminal = tcgetattr(0, &running.saved) == 0;
	if (watch_signals(&running, err) || post_guard(&running, err) ||
		th_runtime_create(&options, warning, err))
		goto out;
	rc = start(&running, warning, err);
	if (rc == 0) {
		attend(&running);
		*code = exit_code(&running);
	}
	restore_terminal(&running);
	if (rc)
		reap(&running);
	if (th_runtime_delete(
		    options.dir, options.id, true, warning, rc ? &later : err))
		rc = -1;
out:
	th_guard_dismiss(&running.guard);
	th_close(&lock);
	th_close(&running.signals);
	th_close(&running.pidfd);
	th_close(&running.console);
	return rc;
}
