/* why: in plain words, why a container is in the state that it is in. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "container/history.h"

#define LAST_WORDS 5

struct words {
	bool dead, any;
};

static bool print_word(void *owner, const struct th_log_entry *entry)
{
	struct words *words = owner;

	if (!words->any)
		puts(words->dead ? "its last words:" : "it wrote last:");
	words->any = true;
	printf("  %s", entry->stream == TH_STREAM_ERR ? "(err) " : "");
	fwrite(entry->data, 1, entry->len, stdout);
	putchar('\n');
	return true;
}

static int print_last_words(struct invocation *call, const char *id, bool dead,
	struct th_error *err)
{
	struct th_history_options options = {.last = LAST_WORDS};
	struct words words = {.dead = dead};

	if (th_history_read(
		    call->context.store, id, &options, print_word, &words, err))
		return -1;
	if (!words.any)
		puts("it has written nothing");
	return 0;
}

/* What each cause may be mended by. */
static void print_advice(const struct th_container_row *row)
{
	if (row->outcome == TH_OUTCOME_EXITED && row->code == 127)
		puts("127 is what a shell says of a program that it does not "
		     "find");
	else if (row->outcome == TH_OUTCOME_EXITED && row->code == 126)
		puts("126 is what a shell says of a program that it cannot "
		     "execute");
	else if (row->outcome == TH_OUTCOME_EXITED && row->code == 0 &&
		!row->reason[0] && row->ended_us - row->started_us < 2000000 &&
		(strcmp(row->command, "sh") == 0 ||
			strcmp(row->command, "/bin/sh") == 0 ||
			strcmp(row->command, "bash") == 0))
		puts("a shell without a terminal or input has nothing to do "
		     "and "
		     "ends at once");
}

static int explain(struct invocation *call, const struct th_container_row *row,
	struct th_error *err)
{
	struct th_event_row *events = NULL;
	char outcome[320], ago[48], span[TH_TIME_TEXT];
	size_t count = 0;

	if (th_state_events(
		    call->context.store->db, row->id, &events, &count, err))
		return -1;
	switch (row->state) {
	case TH_STATE_CREATED:
		ago_text(row->created_us, ago);
		printf("%s was created %s and never started\n"
		       "  tidyhull start %s\n",
			row->name, ago, row->name);
		break;
	case TH_STATE_PAUSED:
		ago_text(count ? events[count - 1].time_us : 0, ago);
		printf("%s was paused %s by %s; tidyhull resume %s lets it go "
		       "on\n",
			row->name, ago, count ? events[count - 1].actor : "?",
			row->name);
		break;
	case TH_STATE_RUNNING:
	case TH_STATE_WAITING:
		ago_text(row->started_us, ago);
		printf("%s is %s since it was started %s by %s\n", row->name,
			th_state_word(row->state), ago,
			count ? events[count - 1].actor : "?");
		break;
	case TH_STATE_STOPPED:
		outcome_text(row, outcome);
		ago_text(row->ended_us, ago);
		printf("%s %s, %s", row->name, outcome, ago);
		if (row->started_us && row->ended_us >= row->started_us &&
			row->outcome != TH_OUTCOME_COULD_NOT_START) {
			th_clock_span(row->ended_us - row->started_us, span);
			printf(", %s after its start", span);
		}
		putchar('\n');
		if (count && row->reason[0] &&
			row->outcome != TH_OUTCOME_COULD_NOT_START)
			printf("it %s (%s)\n", events[count - 1].cause,
				events[count - 1].actor);
		print_advice(row);
		break;
	}
	free(events);
	if (row->state == TH_STATE_CREATED)
		return 0;
	return print_last_words(
		call, row->id, row->state == TH_STATE_STOPPED, err);
}

static int run(struct invocation *call)
{
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;
		struct th_error err = {0};

		if (i > 0)
			putchar('\n');
		if (th_object_find(&call->context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &err) ||
			explain(call, &object.container, &err))
			code = say_error(&err);
	}
	return code;
}

static const char *const examples[] = {"tidyhull why gauge-north", NULL};

const struct verb verb_why = {.name = "why",
	.group = "look",
	.summary = "why a container is in the state that it is in",
	.usage = "CONTAINER...",
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 1,
	.most = -1,
	.run = run};
