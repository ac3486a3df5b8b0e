/* tidyhull-keeper: the parent and recorder of one running container. It is
 * started by tidyhull, not by people. */
#include <errno.h>
#include <fcntl.h>
#include <linux/close_range.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"
#include "base/inherit.h"
#include "base/libc.h"
#include "base/utf8.h"
#include "keeper/keeper.h"
#include "keeper/scratch.h"
#include "runtime/runtime.h"
#include "sandbox/filter.h"
#include "sandbox/rights.h"

/* The channel to the command that starts the container. */
#define CHANNEL 3
/* The command sends at once what it hands on. */
#define HANDED_MS 10000

#ifdef __SANITIZE_ADDRESS__
/* It has no environment and no streams: reports go where tests look. */
const char *__asan_default_options(void);
const char *__ubsan_default_options(void);

const char *__asan_default_options(void)
{
	return "detect_leaks=0:log_path=/var/tmp/hull-san";
}

const char *__ubsan_default_options(void)
{
	return "print_stacktrace=1:log_path=/var/tmp/hull-san";
}
#endif

enum argument {
	ARG_PROGRAM,
	ARG_ROOT,
	ARG_RUN,
	ARG_ID,
	ARG_MODE, /* "background", "successor", "attached", "input", "bound" */
	ARG_ROWS,
	ARG_COLUMNS,
	ARG_ACTOR,
	ARG_NOTIFY, /* the service manager's socket, or "" */
	ARG_COUNT
};

/* Signals that nobody has a reason to send: none of them may end a container.
 * What says that the keeper itself is at fault, or ends it whatever it says, is
 * left alone. */
static void ignore_others(void)
{
	for (int i = 1; i < NSIG; i++) {
		switch (i) {
		case SIGTERM:
		case SIGINT:
		case SIGHUP:
		case SIGCHLD:
		case SIGKILL:
		case SIGSTOP:
		case SIGABRT:
		case SIGBUS:
		case SIGFPE:
		case SIGILL:
		case SIGSEGV:
		case SIGSYS:
		case SIGTRAP:
			break;
		default:
			signal(i, SIG_IGN);
		}
	}
}

/* Nothing of the command's terminal, session, folder or files stays. */
static void leave_caller(void)
{
	struct rlimit files;
	sigset_t set;
	int null;

	setsid();
	th_inherit_no_signals();
	th_inherit_no_limits();
	/* It was executed by a descriptor, which is no name. */
	prctl(PR_SET_NAME, "tidyhull-keeper", 0, 0, 0);
	umask(022);
	if (chdir("/")) {
		/* The folder is kept busy, no more. */
	}
	syscall(SYS_close_range, CHANNEL + 1, ~0u, 0);
	fcntl(CHANNEL, F_SETFD, FD_CLOEXEC);
	null = open("/dev/null", O_RDWR | O_CLOEXEC);
	if (null >= 0) {
		dup2(null, 0);
		dup2(null, 1);
		dup2(null, 2);
		close(null);
	}
	sigemptyset(&set);
	sigaddset(&set, SIGTERM);
	sigaddset(&set, SIGINT);
	sigaddset(&set, SIGHUP);
	sigaddset(&set, SIGCHLD);
	sigprocmask(SIG_SETMASK, &set, NULL);
	ignore_others();
	/* One heap for all threads: each of those that it has for a moment
	 * would leave one behind. */
	th_libc_one_heap();
	/* What its children are before they run their program must not be
	 * looked into from inside. */
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	if (getrlimit(RLIMIT_NOFILE, &files) == 0) {
		files.rlim_cur = files.rlim_max;
		setrlimit(RLIMIT_NOFILE, &files);
	}
}

/* The service manager waits for the end of its own children only
 * (systemd.service(5), "PIDFile=" says the same of processes that it has not
 * started): this process becomes one, before it is named as the main one. */
static void become_child_of_manager(void)
{
	const struct timespec step = {.tv_nsec = 100000};
	pid_t parent = getpid(), child = fork();

	if (child > 0)
		_exit(0);
	while (child == 0 && getppid() == parent)
		nanosleep(&step, NULL);
}

static void init(struct keeper *keeper, char **argv)
{
	memset(keeper, 0, sizeof(*keeper));
	keeper->id = argv[ARG_ID];
	keeper->actor = argv[ARG_ACTOR];
	keeper->notify = argv[ARG_NOTIFY];
	keeper->successor = strcmp(argv[ARG_MODE], "successor") == 0;
	keeper->attached =
		!keeper->successor && strcmp(argv[ARG_MODE], "background") != 0;
	keeper->input = strcmp(argv[ARG_MODE], "input") == 0;
	keeper->bound = strcmp(argv[ARG_MODE], "bound") == 0;
	keeper->size.rows = (uint16_t)atoi(argv[ARG_ROWS]);
	keeper->size.columns = (uint16_t)atoi(argv[ARG_COLUMNS]);
	keeper->lock_fd = keeper->folder_fd = keeper->cgroup.fd = -1;
	keeper->last.fd = keeper->overlay_fd = -1;
	keeper->sandbox.pidfd = keeper->sandbox.channel = -1;
	keeper->sandbox.console = keeper->sandbox.status = -1;
	keeper->process.fd = keeper->signals.fd = -1;
	keeper->clients.listener.fd = keeper->probing.watch.fd = -1;
	keeper->loop.epoll = -1;
	keeper->recording.end = &keeper->recording.first;
	keeper_own_ids_init(&keeper->own_ids);
	keeper_filter_init(&keeper->kept_filter);
	keeper_plugs_init(&keeper->plugs);
	keeper_streams_init(&keeper->streams);
}

static void release(struct keeper *keeper)
{
	int fds[] = {
		keeper->signals.fd, keeper->process.fd, keeper->sandbox.status};

	for (size_t i = 0; i < sizeof(fds) / sizeof(*fds); i++)
		th_close(&fds[i]);
	keeper_record_release(keeper);
	th_close(&keeper->last.fd);
	th_plan_release(&keeper->plan);
	th_root_layers_release(&keeper->layers);
	th_probe_release(&keeper->probing.probe);
	th_bundle_release(&keeper->bundle);
	th_close(&keeper->folder_fd);
	th_pilot_close(&keeper->plugs.pilot);
	keeper_filter_release(&keeper->kept_filter);
	free(keeper->bundle_path);
	keeper_ports_release(&keeper->ports);
	th_loop_release(&keeper->loop);
	th_store_close(keeper->store);
}

/* The create operation of the OCI Runtime Specification: this program is
 * small, and ends when the container is made. */
static int create_bundle(char **argv)
{
	struct th_runtime_options options = {.dir = argv[2],
		.id = argv[3],
		.bundle = argv[4],
		.pid_file = argv[5],
		.console_socket = argv[6],
		.output = "",
		.env = environ,
		.entered = argv[7][0] != '\0'};
	struct th_error warning = {0}, err = {0};
	int rc;

	th_inherit_no_signals();
	prctl(PR_SET_NAME, "tidyhull-keeper", 0, 0, 0);
	umask(022);
	fcntl(CHANNEL, F_SETFD, FD_CLOEXEC);
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	signal(SIGPIPE, SIG_IGN);
	rc = th_runtime_create(&options, &warning, &err);
	if (rc)
		th_words_send(CHANNEL, TH_TELL_FAILED, th_words_of_error(&err));
	else
		th_words_send(CHANNEL, TH_TELL_STARTED,
			warning.code ? th_words_of_error(&warning)
				     : strdup(""));
	return rc ? 1 : 0;
}

static void say(const char *log, const char *level, const struct th_error *err)
{
	bool warning = strcmp(level, "warning") == 0;
	struct th_buf text;

	th_runtime_log(log, level, err);
	th_buf_init(&text, 4 * sizeof(*err));
	th_utf8_visible(err->msg, strlen(err->msg), &text);
	th_buf_adds(&text, err->hint[0] ? "\n  " : "");
	th_utf8_visible(err->hint, strlen(err->hint), &text);
	fprintf(stderr, "%s: %s\n", warning ? "note" : "tidyhull",
		text.data ? text.data : "");
	th_buf_release(&text);
}

/* As "oci run": the whole life of a container, in the foreground. */
static int run_bundle(char **argv)
{
	struct th_runtime_options options = {.dir = argv[2],
		.id = argv[3],
		.bundle = argv[4],
		.pid_file = argv[5],
		.output = "",
		.env = environ,
		.entered = argv[6][0] != '\0'};
	struct th_error warning = {0}, err = {0};
	int code = 0, rc;

	th_inherit_no_signals();
	prctl(PR_SET_NAME, "tidyhull-keeper", 0, 0, 0);
	umask(022);
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	signal(SIGPIPE, SIG_IGN);
	rc = th_runtime_run(&options, &code, &warning, &err);
	if (warning.code)
		say(argv[7], "warning", &warning);
	if (rc == 0)
		return code;
	say(argv[7], "error", &err);
	return err.code == TH_NO_PROGRAM ? 127
		: err.code == TH_NO_EXEC ? 126
					 : 125;
}

/* A word that is lost would leave the command waiting. */
static void tell_started(int channel)
{
	for (int tries = 0; tries < 3; tries++) {
		if (th_channel_send(
			    channel, TH_TELL_STARTED, NULL, 0, NULL, 0) == 0 ||
			errno == EPIPE)
			break;
	}
}

int main(int argc, char **argv)
{
	struct th_error err = {0};
	struct keeper keeper;
	int channel = CHANNEL, code;

	if (argc == 8 && strcmp(argv[1], "oci-create") == 0)
		return create_bundle(argv);
	if (argc == 8 && strcmp(argv[1], "oci-run") == 0)
		return run_bundle(argv);
	if (argc > 1 && strcmp(argv[1], TH_RELAYING_WORD) == 0)
		return th_relaying_main(argc, argv);
	if (argc != ARG_COUNT) {
		fputs("tidyhull-keeper is started by tidyhull; see tidyhull "
		      "help\n",
			stderr);
		return 2;
	}
	if (argv[ARG_NOTIFY][0])
		become_child_of_manager();
	leave_caller();
	scratch_begin();
	init(&keeper, argv);
	keeper.score = th_rights_outlive();
	/* In this order: the lock (keeper_prepare) before anything of the
	 * container is touched, everything undone before the answer is sent. */
	if (th_loop_init(&keeper.loop, &err) ||
		th_store_open(argv[ARG_ROOT], argv[ARG_RUN], true,
			&keeper.store, &err) ||
		(keeper.successor &&
			th_handed_receive(channel, HANDED_MS,
				&keeper.ports.handed_on, &err)) ||
		keeper_prepare(&keeper, &err) ||
		keeper_start(&keeper, keeper.actor, &err)) {
		/* All is undone before the command hears of it. */
		keeper_abort(&keeper, &err);
		th_words_send(channel, TH_TELL_FAILED, th_words_of_error(&err));
		th_close(&channel);
		keeper_close_bridges(&keeper);
		release(&keeper);
		return 1;
	}
	keeper_notify_started(&keeper);
	keeper_rest();
	tell_started(channel);
	if (keeper.attached)
		keeper_add_client(&keeper, channel, true);
	else
		th_close(&channel);
	keeper_serve(&keeper);
	th_rights_raise();
	keeper_leave(&keeper);
	keeper_tell_late(&keeper);
	keeper_close_bridges(&keeper);
	code = *keeper.notify ? keeper.last.code : 0;
	release(&keeper);
	return code;
}
