/* Talking to programs of containers: their streams and terminals. */
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "container/history.h"
#include "container/reach.h"
#include "ipc/words.h"
#include "library/library.h"
#include "sandbox/cgroup.h"
#include "store/machine.h"

/* How far back a screen is looked for. */
#define BEFORE_LINES 2000
#define BEFORE_BYTES (64u << 20)
#define KEEPER_LEAVES_MS 2000

struct th_talk {
	th_hull *hull;
	struct th_container_row row;
	struct th_session_row session; /* without an ID: the container's own */
	int channel, console;
	pid_t keeper; /* of the start, or 0 */
	bool over;
	struct th_message message;
	struct th_buf before; /* what was written before */
};

static th_talk *talk_new(th_hull *hull, struct th_error *err)
{
	th_talk *talk = calloc(1, sizeof(*talk));

	if (!talk) {
		th_fail_memory(err);
		return NULL;
	}
	talk->hull = hull;
	talk->channel = talk->console = -1;
	return talk;
}

/* Gives it, or lets it go where rc says that it failed. */
static int talk_give(th_talk *made, int rc, th_talk **talk)
{
	if (rc) {
		th_talk_close(made);
		return -1;
	}
	*talk = made;
	return 0;
}

static struct th_size size_of(struct th_terminal_size size)
{
	return (struct th_size){.rows = size.rows, .columns = size.columns};
}

int th_talk_start(th_hull *hull, const char *name, struct th_terminal_size size,
	th_talk **talk, th_error *error)
{
	struct th_error own = {0}, ignored = {0}; /* then as it was */
	th_talk *made;
	int rc;

	error = error ? error : &own;
	*talk = NULL;
	made = talk_new(hull, error);
	if (!made)
		return -1;
	rc = library_container(hull, name, &made->row, error);
	if (rc == 0 && made->row.state != TH_STATE_CREATED &&
		made->row.state != TH_STATE_STOPPED) {
		rc = th_fail(error, TH_IN_USE, "container \"%s\" is %s",
			made->row.name, th_state_word(made->row.state));
		th_hint(error, "tidyhull attach %s", made->row.name);
	}
	if (rc == 0)
		rc = th_container_start_attached(&hull->context, &made->row,
			TH_ATTACHED_INPUT, size_of(size), &made->channel,
			&made->keeper, error);
	/* As it is from now on: signals are for one that runs. */
	if (rc == 0)
		th_state_get(hull->context.store->db, made->row.id, &made->row,
			&ignored);
	return talk_give(made, rc, talk);
}

int th_talk_attach(th_hull *hull, const char *name,
	struct th_terminal_size size, th_talk **talk, th_error *error)
{
	struct th_error own = {0};
	th_talk *made;
	int rc;

	error = error ? error : &own;
	*talk = NULL;
	made = talk_new(hull, error);
	if (!made)
		return -1;
	rc = library_container(hull, name, &made->row, error);
	if (rc == 0)
		rc = th_act_check(&made->row, TH_ACT_ATTACH, error);
	if (rc == 0) {
		rc = th_keeper_reach(hull->context.store->run_fd, made->row.id,
			&made->channel, error);
		if (rc == 0)
			th_fail(error, TH_FAILED,
				"container \"%s\" has just ended",
				made->row.name);
		rc = rc == 1 ? 0 : -1;
	}
	if (rc == 0)
		th_words_send(made->channel, TH_SAY_ATTACH,
			th_words_of_size(size_of(size)));
	return talk_give(made, rc, talk);
}

/* ---- another command ---- */

struct words {
	struct th_strings command, env;
	const char *user, *workdir;
};

static int read_words(
	const json_t *doc, struct words *words, struct th_error *err)
{
	if (library_texts(json_object_get(doc, "command"), "command",
		    &words->command, err) ||
		library_texts(
			json_object_get(doc, "env"), "env", &words->env, err))
		return -1;
	words->user = library_text(doc, "user");
	words->workdir = library_text(doc, "workdir");
	if (!words->command.count)
		return th_fail(err, TH_USAGE, "no \"command\" is given");
	for (size_t i = 0; i < words->env.count; i++) {
		if (!strchr(words->env.items[i], '='))
			return th_fail(err, TH_USAGE,
				"\"%.100s\" is not KEY=VALUE",
				words->env.items[i]);
	}
	return 0;
}

static int exec_it(th_talk *made, const struct th_talk_command *command,
	const struct words *words, struct th_error *err)
{
	const struct th_exec_options options = {.command = &words->command,
		.env = &words->env,
		.user = words->user,
		.workdir = words->workdir,
		.terminal = command->terminal && !command->background,
		.background = command->background,
		.size = size_of(command->size),
		.stdio = {command->streams[0], command->streams[1],
			command->streams[2]},
		.program = command->program};

	if (th_container_exec(&made->hull->context, &made->row, &options,
		    &made->channel, &made->console, made->session.id, err))
		return -1;
	memcpy(made->session.container, made->row.id, sizeof(made->row.id));
	return 0;
}

int th_talk_exec(th_hull *hull, const char *name,
	const struct th_talk_command *command, th_talk **talk, json_t **doc,
	th_error *error)
{
	struct th_error own = {0};
	struct words words = {0};
	th_talk *made, *unused = NULL;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	talk = talk ? talk : &unused;
	*talk = NULL;
	made = talk_new(hull, error);
	if (!made)
		return -1;
	rc = read_words(command->words, &words, error);
	if (rc == 0)
		rc = library_container(hull, name, &made->row, error);
	if (rc == 0)
		rc = exec_it(made, command, &words, error);
	if (rc == 0)
		rc = library_give(
			json_pack("{s:s s:s}", "session", made->session.id,
				"container", made->row.id),
			doc, error);
	th_strings_release(&words.command);
	th_strings_release(&words.env);
	rc = talk_give(made, rc, talk);
	th_talk_close(unused);
	return rc;
}

int th_talk_run(th_hull *hull, const char *name,
	const struct th_talk_command *command, int *code, th_error *error)
{
	struct th_error own = {0};
	struct th_news news = {.told = TH_TOLD_NOTHING};
	th_talk *talk = NULL;
	int rc;

	error = error ? error : &own;
	if (th_talk_exec(hull, name, command, &talk, NULL, error))
		return -1;
	do
		rc = th_talk_next(talk, &news, error);
	while (rc == 1 && news.told != TH_TOLD_ENDED);
	th_talk_close(talk);
	if (rc == 1) {
		*code = news.exit_code;
		return 0;
	}
	return rc < 0 ? -1
		      : th_fail(error, TH_FAILED,
				"the container ended before the command");
}

/* ---- to and fro ---- */

int th_talk_descriptor(const th_talk *talk)
{
	return talk->channel;
}

int th_talk_console(const th_talk *talk)
{
	return talk->console;
}

bool th_talk_has_terminal(const th_talk *talk)
{
	struct th_error ignored = {0}; /* then it has none */

	return th_container_has_terminal(
		       &talk->hull->context, &talk->row, &ignored) == 1;
}

/* What was written before the place, as far as the log has it. */
static void read_before(th_talk *talk, struct th_news *news)
{
	struct th_history_options options = {.last = BEFORE_LINES};
	struct th_history *history = NULL;
	struct th_error ignored = {0}; /* what comes is told */
	struct th_log_entry entry;

	th_buf_release(&talk->before);
	th_buf_init(&talk->before, BEFORE_BYTES);
	if (th_log_place_parse(talk->message.data, &options.end) &&
		th_history_open(talk->hull->context.store, talk->row.id, NULL,
			&options, &history, &ignored) == 0) {
		while (th_history_next(history, &entry, &ignored) == 1) {
			th_buf_add(&talk->before, entry.data, entry.len);
			if (!entry.more)
				th_buf_adds(&talk->before, "\n");
		}
		th_history_close(history);
	}
	news->told = TH_TOLD_BEFORE;
	news->text = talk->before.data;
	news->bytes = talk->before.len;
}

static void tell_ending(
	const struct th_message *message, struct th_news *news, enum th_told as)
{
	struct th_ending ending;

	if (!th_words_ending(message, &ending))
		return;
	news->told = as;
	news->by_signal = ending.outcome != TH_OUTCOME_EXITED;
	news->code = ending.code;
	news->exit_code = library_exit_code(&ending);
	news->out_of_memory = ending.outcome == TH_OUTCOME_OUT_OF_MEMORY;
	news->wait_ms = ending.wait_ms;
}

int th_talk_next(th_talk *talk, struct th_news *news, th_error *error)
{
	struct th_error own = {0};
	struct th_message *message = &talk->message;
	int fds[TH_CHANNEL_FDS], rc;

	error = error ? error : &own;
	memset(news, 0, sizeof(*news));
	rc = th_channel_receive(talk->channel, message, fds, error);
	if (rc <= 0)
		return rc < 0 && error->code ? -1 : 0;
	for (int i = 0; i < TH_CHANNEL_FDS; i++)
		th_close(&fds[i]);
	switch ((enum th_message_type)message->type) {
	case TH_TELL_OUT:
	case TH_TELL_ERR:
		news->told = message->type == TH_TELL_OUT ? TH_TOLD_OUT
							  : TH_TOLD_ERR;
		news->text = message->data;
		news->bytes = message->len;
		break;
	case TH_TELL_PLACE:
		read_before(talk, news);
		break;
	case TH_TELL_AGAIN:
		tell_ending(message, news, TH_TOLD_AGAIN);
		break;
	case TH_TELL_ENDED:
		tell_ending(message, news, TH_TOLD_ENDED);
		talk->over |= news->told == TH_TOLD_ENDED;
		break;
	case TH_TELL_FAILED:
		return th_words_error(message, error);
	default: /* of another version: nothing that has to be known */
		break;
	}
	return 1;
}

int th_talk_input(th_talk *talk, const char *data, size_t bytes)
{
	return th_channel_send(talk->channel,
		bytes ? TH_SAY_INPUT : TH_SAY_INPUT_END, data, bytes, NULL, 0);
}

void th_talk_resize(th_talk *talk, struct th_terminal_size size)
{
	th_words_send(
		talk->channel, TH_SAY_RESIZE, th_words_of_size(size_of(size)));
}

void th_talk_signal(th_talk *talk, int number)
{
	struct th_error ignored = {0}; /* it has just ended */

	if (talk->session.id[0])
		th_session_signal(
			&talk->hull->context, &talk->session, number, &ignored);
	else
		th_container_signal(&talk->hull->context, &talk->row, number,
			true, &ignored);
}

void th_talk_leave(th_talk *talk)
{
	th_channel_send(talk->channel, TH_SAY_LEAVE, NULL, 0, NULL, 0);
}

/* A batch engine looks for what is left of a task when the task's own process
 * has ended, and looks again only a second later: the keeper, which still
 * cleans up, is to be gone by then. */
static void await_keeper(const th_talk *talk)
{
	struct pollfd one = {.events = POLLIN};

	if (!talk->over || talk->keeper <= 0 || !th_cgroup_in_job())
		return;
	/* Our own child: the number is nobody else's before it is waited
	 * for. */
	one.fd = (int)syscall(SYS_pidfd_open, talk->keeper, 0);
	if (one.fd >= 0 && poll(&one, 1, KEEPER_LEAVES_MS) == 1)
		waitpid(talk->keeper, NULL, WNOHANG);
	th_close(&one.fd);
}

void th_talk_close(th_talk *talk)
{
	if (!talk)
		return;
	th_close(&talk->channel);
	await_keeper(talk);
	th_close(&talk->console);
	th_buf_release(&talk->before);
	free(talk);
}
