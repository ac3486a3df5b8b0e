/* Sessions: further commands in the running container. */
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "keeper/keeper.h"
#include "keeper/scratch.h"
#include "sandbox/rights.h"

#define WHAT "a session's request"
#define READS_AT_ONCE 8

/* A process as the container's own, changed as the request says. */
struct request {
	struct th_process process;
	const char *command, *actor, *user;
	bool background;
	struct th_size size;
	json_t *doc;
};

static int read_user(struct request *request, struct th_error *err)
{
	struct th_process *process = &request->process;
	int64_t uid = process->uid, gid = process->gid;
	json_t *groups, *item;
	size_t i;

	if (th_json_int(request->doc, "uid", WHAT, &uid, err) < 0 ||
		th_json_int(request->doc, "gid", WHAT, &gid, err) < 0 ||
		th_json_array(request->doc, "groups", WHAT, &groups, err) < 0)
		return -1;
	/* What a change of user means for capabilities (capabilities(7),
	 * "Effect of user ID changes"). */
	if (uid < 0 || uid >= UINT32_MAX || gid < 0 || gid >= UINT32_MAX)
		return th_fail(
			err, TH_USAGE, "the session's user is not valid");
	if (process->uid != 0 && uid == 0) {
		/* Root again: with what the container may have at most. */
		process->permitted = process->effective = process->bounding;
	} else if (process->uid == 0 && uid != 0) {
		process->permitted = process->effective = 0;
		process->ambient = 0;
	}
	process->uid = (uid_t)uid;
	process->gid = (gid_t)gid;
	if (!groups)
		return 0;
	process->groups = calloc(json_array_size(groups) + 1, sizeof(gid_t));
	if (!process->groups)
		return th_fail_memory(err);
	process->group_count = 0;
	json_array_foreach(groups, i, item)
	{
		process->groups[process->group_count++] =
			(gid_t)json_integer_value(item);
	}
	return 0;
}

static int read_request(struct keeper *keeper, const struct th_buf *text,
	struct request *request, struct th_error *err)
{
	const struct th_process *base = &keeper->bundle.process;
	struct th_process *process = &request->process;
	const char *cwd = NULL;
	int64_t rows = 0, columns = 0;

	memset(request, 0, sizeof(*request));
	if (text->failed)
		return th_fail(err, TH_FAILED,
			"arguments and environment of a session are more than "
			"%u MiB",
			TH_CHANNEL_REQUEST >> 20);
	if (th_json_parse(text->data, text->len, WHAT, &request->doc, err))
		return -1;
	*process = *base;
	memset(&process->args, 0, sizeof(process->args));
	memset(&process->env, 0, sizeof(process->env));
	process->groups = NULL;
	process->group_count = 0;
	process->cwd = NULL;
	process->terminal = false;
	/* Limits and score hold for the container's own process. */
	if (th_json_strings(request->doc, "args", WHAT, &process->args, err) <
			0 ||
		th_json_strings(request->doc, "env", WHAT, &process->env, err) <
			0 ||
		th_json_string(request->doc, "cwd", WHAT, &cwd, err) < 0 ||
		th_json_string(request->doc, "command", WHAT, &request->command,
			err) < 0 ||
		th_json_string(request->doc, "actor", WHAT, &request->actor,
			err) < 0 ||
		th_json_string(
			request->doc, "user", WHAT, &request->user, err) < 0 ||
		th_json_bool(request->doc, "background", WHAT,
			&request->background, err) < 0 ||
		th_json_bool(request->doc, "terminal", WHAT, &process->terminal,
			err) < 0 ||
		th_json_int(request->doc, "rows", WHAT, &rows, err) < 0 ||
		th_json_int(request->doc, "columns", WHAT, &columns, err) < 0 ||
		read_user(request, err))
		return -1;
	request->size.rows = (uint16_t)rows;
	request->size.columns = (uint16_t)columns;
	process->cwd = strdup(cwd ? cwd : base->cwd);
	if (!process->cwd)
		return th_fail_memory(err);
	if (!process->args.count)
		return th_fail(err, TH_USAGE, "the session has no command");
	return 0;
}

static void release_request(struct request *request)
{
	th_strings_release(&request->process.args);
	th_strings_release(&request->process.env);
	free(request->process.groups);
	free(request->process.cwd);
	json_decref(request->doc);
}

static void close_output(struct session *session, struct th_watch *watch)
{
	int fd = watch->fd;

	th_loop_forget(&session->keeper->loop, watch);
	th_close(&fd);
}

/* What a session in the background writes goes to its log. */
static void output_ready(struct th_watch *watch, uint32_t events)
{
	static _Alignas(APART) char data[TH_CHANNEL_PAYLOAD];
	struct session *session = watch->owner;
	ssize_t got = read(watch->fd, data, sizeof(data));

	(void)events;
	if (got > 0)
		th_log_write(&session->log,
			watch == &session->err ? TH_STREAM_ERR : TH_STREAM_OUT,
			data, (size_t)got);
	else if (got == 0 || (errno != EAGAIN && errno != EINTR))
		close_output(session, watch);
}

/* Reads what is there without waiting for more: others may hold the pipe. */
static void take(struct th_watch *watch, int most)
{
	for (int i = 0; i < most && watch->fd >= 0; i++) {
		struct pollfd one = {.fd = watch->fd, .events = POLLIN};

		if (poll(&one, 1, 0) <= 0)
			break;
		output_ready(watch, POLLIN);
	}
}

static void drain(struct session *session, struct th_watch *watch)
{
	take(watch, 1024);
	close_output(session, watch);
}

void keeper_record_sessions(struct keeper *keeper)
{
	for (struct session *at = keeper->sessions.first; at; at = at->next) {
		if (at->background) {
			take(&at->out, READS_AT_ONCE);
			take(&at->err, READS_AT_ONCE);
		}
	}
}

struct told {
	const struct session *session;
	const struct th_ending *ending;
};

static void tell_waiter(struct client *client, const void *with)
{
	const struct told *told = with;

	if (client->session != told->session)
		return;
	client->session = NULL;
	client->waits_for_end = false;
	keeper_tell_ending(client, TH_TELL_ENDED, told->ending);
}

/* Everybody who waits for the session, also those that came later. */
static void tell_waiters(
	struct session *session, const struct th_ending *ending)
{
	keeper_each_client(
		session->keeper, tell_waiter, &(struct told){session, ending});
}

/* The kernel ends all others of a PID namespace before its first process is
 * gone: whoever is killed meanwhile ended with the container. */
static bool container_is_ending(const struct keeper *keeper)
{
	char path[48], *at;
	struct th_error ignored = {0}; /* then it is not */
	unsigned int flags = 0;
	struct th_buf text;

	if (!keeper_runs(keeper) || !keeper->sandbox.pid)
		return true;
	snprintf(path, sizeof(path), "/proc/%d/stat", (int)keeper->sandbox.pid);
	th_buf_init(&text, 4096);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		/* proc(5): behind the name state, five numbers, flags; the
		 * kernel's PF_EXITING is 4. */
		at = strrchr(text.data, ')');
		if (at)
			sscanf(at + 2, "%*c %*d %*d %*d %*d %*d %u", &flags);
	}
	th_buf_release(&text);
	return flags & 4;
}

static void end_session(struct session *session, int status)
{
	struct keeper *keeper = session->keeper;
	struct th_ending ending = {0};
	int fd = session->watch.fd;

	if (WIFSIGNALED(status) && WTERMSIG(status) == SIGKILL &&
		container_is_ending(keeper))
		keeper->sessions.ended++;
	if (WIFSIGNALED(status)) {
		ending.outcome = TH_OUTCOME_SIGNAL;
		ending.code = WTERMSIG(status);
	} else {
		ending.outcome = TH_OUTCOME_EXITED;
		ending.code = WEXITSTATUS(status);
	}
	keeper_record_session(keeper, session->id,
		WIFSIGNALED(status) ? 128 + ending.code : ending.code);
	if (session->background) {
		drain(session, &session->out);
		drain(session, &session->err);
		th_log_close(&session->log);
	}
	tell_waiters(session, &ending);
	th_loop_forget(&keeper->loop, &session->watch);
	th_close(&fd);
	*session->place = session->next;
	if (session->next)
		session->next->place = session->place;
	free(session->row);
	free(session);
}

static void session_ready(struct th_watch *watch, uint32_t events)
{
	struct session *session = watch->owner;
	int status = 0;

	(void)events;
	if (waitpid(session->pid, &status, WNOHANG) > 0)
		end_session(session, status);
}

struct session *keeper_find_session(struct keeper *keeper, const char *id)
{
	struct session *at = keeper->sessions.first;

	while (at && strcmp(at->id, id) != 0)
		at = at->next;
	return at;
}

/* The streams of a session that nobody watches: nothing to read, and pipes to
 * its log. inside gets what the command's side of them is. */
static int make_background(
	struct session *session, int inside[3], struct th_error *err)
{
	struct keeper *keeper = session->keeper;
	struct th_log_settings settings;
	struct th_watch *watches[] = {&session->out, &session->err};
	char base[48];

	inside[0] = inside[1] = inside[2] = -1;
	session->background = true;
	snprintf(base, sizeof(base), TH_SESSION_LOG "%s", session->id);
	if (th_log_settings_parse(NULL, &settings, err) ||
		th_log_open(
			keeper->folder_fd, base, &settings, &session->log, err))
		return -1;
	inside[0] = open("/dev/null", O_RDONLY | O_CLOEXEC);
	for (int i = 0; i < 2; i++) {
		int pair[2];

		watches[i]->owner = session;
		watches[i]->ready = output_ready;
		if (pipe2(pair, O_CLOEXEC))
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot make the streams of the session");
		fcntl(pair[0], F_SETFL, O_NONBLOCK);
		inside[1 + i] = pair[1];
		if (th_loop_watch(
			    &keeper->loop, watches[i], pair[0], EPOLLIN)) {
			close(pair[0]);
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot watch the session");
		}
	}
	return 0;
}

void keeper_remove_session_log(struct keeper *keeper, const char *id)
{
	char base[48], name[TH_LOG_FILE];
	int lowest = 0, highest = 0;

	snprintf(base, sizeof(base), TH_SESSION_LOG "%.24s", id);
	if (th_log_files(keeper->folder_fd, base, &lowest, &highest))
		return;
	for (int i = lowest; i <= highest; i++) {
		th_log_file(base, i, name);
		unlinkat(keeper->folder_fd, name, 0);
	}
}

/* Where nothing has become of it. */
static void drop_session(struct session *session)
{
	free(session->row);
	if (session->background) {
		close_output(session, &session->out);
		close_output(session, &session->err);
		th_log_close(&session->log);
		keeper_remove_session_log(session->keeper, session->id);
	}
	free(session);
}

/* What the state is to know of it, once it runs. */
static int describe(struct session *session, const struct request *request,
	struct th_error *err)
{
	struct th_session_row *row = calloc(1, sizeof(*row));

	if (!row)
		return th_fail_memory(err);
	row->background = session->background;
	snprintf(row->id, sizeof(row->id), "%s", session->id);
	snprintf(row->container, sizeof(row->container), "%s",
		session->keeper->id);
	snprintf(row->command, sizeof(row->command), "%.255s",
		request->command ? request->command : "");
	snprintf(row->actor, sizeof(row->actor), "%.127s",
		request->actor ? request->actor : "");
	if (request->user)
		snprintf(row->user, sizeof(row->user), "%.63s", request->user);
	else
		snprintf(row->user, sizeof(row->user), "%u",
			(unsigned int)request->process.uid);
	session->row = row;
	return 0;
}

static void add_session(struct session *session, struct client *client)
{
	struct keeper *keeper = session->keeper;

	session->client = client;
	client->session = session;
	session->next = keeper->sessions.first;
	session->place = &keeper->sessions.first;
	if (session->next)
		session->next->place = &session->next;
	keeper->sessions.first = session;
}

static void take_out(struct session *session)
{
	if (session->client)
		session->client->session = NULL;
	*session->place = session->next;
	if (session->next)
		session->next->place = session->place;
}

/* What dies cannot be entered, in one way or another. */
static void explain_end(const struct keeper *keeper, struct th_error *err)
{
	if (!err->code || !container_is_ending(keeper))
		return;
	th_error_clear(err);
	th_fail(err, TH_FAILED, "the container has just ended");
}

/* Nothing has become of it, and whoever asked for it hears why. */
static void fail_session(struct session *session, struct th_error *err)
{
	struct client *client = session->client;

	explain_end(session->keeper, err);
	th_loop_forget(&session->keeper->loop, &session->watch);
	take_out(session);
	if (client)
		keeper_tell_error(client, err);
	drop_session(session);
}

/* Its program runs. */
static int watch_program(
	struct session *session, struct th_sandbox *made, struct th_error *err)
{
	struct keeper *keeper = session->keeper;

	session->watch.ready = session_ready;
	if (th_loop_watch(
		    &keeper->loop, &session->watch, made->pidfd, EPOLLIN)) {
		th_fail_sys(err, TH_FAILED, errno, "cannot watch the session");
		th_sandbox_abandon(made);
		return -1;
	}
	session->pid = made->pid;
	return 0;
}

static void begin_session(struct session *session, struct th_sandbox *made)
{
	struct winsize size = {
		.ws_row = session->size.rows, .ws_col = session->size.columns};

	if (made->console >= 0 && size.ws_row)
		ioctl(made->console, TIOCSWINSZ, &size);
	/* Recorded first: who hears of it can look at it. */
	session->row->pid = session->pid;
	keeper_record_joined(session->keeper, session->row);
	session->row = NULL;
	if (session->client)
		th_channel_send(session->client->watch.fd, TH_TELL_SESSION,
			session->id, TH_ID_LENGTH, &made->console,
			made->console >= 0);
	th_close(&made->console);
}

static void joining_ready(struct th_watch *watch, uint32_t events);

/* On with what is set up; false where it is gone. */
static bool step_on(struct session *session)
{
	struct keeper *keeper = session->keeper;
	struct th_error err = {0};
	struct th_sandbox made;
	int fd, rc = 0;

	th_loop_forget(&keeper->loop, &session->watch);
	th_rights_raise();
	rc = th_join_step(&session->joining, &made, &err);
	if (rc == 0) {
		fd = th_join_fd(&session->joining);
		session->watch.ready = joining_ready;
		if (th_loop_watch(
			    &keeper->loop, &session->watch, fd, EPOLLIN)) {
			rc = th_fail_sys(&err, TH_FAILED, errno,
				"cannot watch the session");
			th_join_abandon(&session->joining);
		}
	} else if (rc > 0) {
		rc = watch_program(session, &made, &err);
		if (rc == 0)
			begin_session(session, &made);
	}
	th_rights_rest();
	if (rc < 0)
		fail_session(session, &err);
	return rc == 0;
}

static void joining_ready(struct th_watch *watch, uint32_t events)
{
	(void)events;
	step_on(watch->owner);
}

int64_t keeper_sessions_due(const struct keeper *keeper)
{
	int64_t until = -1, now = th_clock_mono_ms();

	for (struct session *at = keeper->sessions.first; at; at = at->next) {
		if (!at->pid && (until < 0 || at->joining.until_ms < until))
			until = at->joining.until_ms;
	}
	return until < 0 ? -1 : until > now ? until - now : 0;
}

void keeper_sessions_work(struct keeper *keeper)
{
	struct session *next;

	for (struct session *at = keeper->sessions.first; at; at = next) {
		next = at->next;
		if (!at->pid && th_clock_mono_ms() >= at->joining.until_ms)
			step_on(at);
	}
}

static int start(struct client *client, const struct request *request,
	int fds[TH_CHANNEL_FDS], struct th_error *err)
{
	struct keeper *keeper = client->keeper;
	struct th_join_options options = {.target_pidfd = keeper->sandbox.pidfd,
		.namespaces = th_bundle_own_namespaces(&keeper->bundle),
		.cgroup = &keeper->cgroup,
		.filter_flags = keeper->bundle.seccomp.flags,
		.process = &request->process,
		.stdio = {fds[0], fds[1], fds[2]},
		.program = fds[3]};
	int inside[3] = {-1, -1, -1}, rc;
	struct session *session = calloc(1, sizeof(*session));

	if (!session)
		return th_fail_memory(err);
	th_id_new(session->id);
	session->keeper = keeper;
	session->size = request->size;
	session->watch.owner = session;
	session->watch.fd = -1;
	session->out.fd = session->err.fd = session->log.fd = -1;
	session->log.journal = -1;
	rc = request->background ? make_background(session, inside, err) : 0;
	for (int i = 0; request->background && i < 3; i++)
		options.stdio[i] = inside[i];
	for (int i = 0; rc == 0 && i < 3; i++)
		keeper_give_stream(keeper, &request->process, options.stdio[i]);
	if (rc == 0)
		rc = describe(session, request, err);
	if (rc == 0)
		rc = keeper_filter(keeper, &options.filter, err);
	if (rc == 0)
		rc = th_join_begin(&options, &session->joining, err);
	for (int i = 0; i < 3; i++)
		th_close(&inside[i]);
	if (rc) {
		drop_session(session);
		return -1;
	}
	add_session(session, client);
	/* Its first step is to be watched. */
	step_on(session);
	return 0;
}

void keeper_end_sessions(struct keeper *keeper)
{
	struct th_error gone = {0};
	int count = keeper->sessions.ended;

	for (struct session *at = keeper->sessions.first; at; at = at->next)
		count++;
	if (count) {
		keeper_note(keeper,
			&(struct th_cause){.kind = TH_CAUSE_SESSIONS_ENDED,
				.number = count});
	}
	th_fail(&gone, TH_FAILED, "the container has just ended");
	while (keeper->sessions.first) {
		int status = 0;

		/* The kernel has killed all of the PID namespace before its
		 * first process was gone, so this does not wait; one that has
		 * no namespace of its own goes now. */
		if (keeper->sessions.first->pid) {
			kill(keeper->sessions.first->pid, SIGKILL);
			waitpid(keeper->sessions.first->pid, &status, 0);
			end_session(keeper->sessions.first, status);
		} else {
			th_join_abandon(&keeper->sessions.first->joining);
			fail_session(keeper->sessions.first, &gone);
		}
	}
	keeper->sessions.ended = count;
}

void keeper_start_session(struct client *client,
	const struct th_message *message, int fds[TH_CHANNEL_FDS])
{
	struct keeper *keeper = client->keeper;
	struct request request;
	struct th_error err = {0};

	th_buf_add(&client->parts, message->data, message->len);
	if (!keeper_runs(keeper)) {
		th_fail(&err, TH_FAILED, "the container has just ended");
	} else if (keeper_is_pausing(keeper)) {
		/* A process in a frozen control group would never begin. */
		th_fail(&err, TH_FAILED, "the container is paused");
	} else if (client->session) {
		th_fail(&err, TH_FAILED, "the client already has a session");
	} else if (read_request(keeper, &client->parts, &request, &err) == 0) {
		if (!request.process.terminal && !request.background &&
			fds[2] < 0)
			th_fail(&err, TH_FAILED, "the session has no streams");
		else
			start(client, &request, fds, &err);
		release_request(&request);
	} else {
		release_request(&request);
	}
	th_buf_release(&client->parts);
	th_buf_init(&client->parts, TH_CHANNEL_REQUEST);
	explain_end(keeper, &err);
	if (err.code)
		keeper_tell_error(client, &err);
}
