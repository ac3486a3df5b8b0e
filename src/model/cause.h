/* Why something happened to a container: a kind with its arguments. Programs
 * decide by the kind; text for people is made of it in one place. */
#ifndef TH_MODEL_CAUSE_H
#define TH_MODEL_CAUSE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

/* How a stopped container ended. */
enum th_outcome {
	TH_OUTCOME_NONE,
	TH_OUTCOME_EXITED, /* code: the exit code */
	TH_OUTCOME_SIGNAL, /* code: the signal's number */
	TH_OUTCOME_OUT_OF_MEMORY,
	TH_OUTCOME_COULD_NOT_START, /* the cause says why */
	TH_OUTCOME_HOST_RESTARTED,
	TH_OUTCOME_KEEPER_LOST
};

const char *th_outcome_word(enum th_outcome outcome);
/* Back from the word; TH_OUTCOME_NONE for any other. */
enum th_outcome th_outcome_parse(const char *word);

enum th_cause_kind {
	TH_CAUSE_NONE,
	TH_CAUSE_TOLD, /* text: as a former version has written it */
	TH_CAUSE_CREATED,
	TH_CAUSE_STARTED,
	TH_CAUSE_STARTED_AGAIN,
	TH_CAUSE_PAUSED,
	TH_CAUSE_RESUMED,
	TH_CAUSE_REMOVED,
	/* Ends of a run. */
	TH_CAUSE_ENDED, /* its program ended by itself */
	TH_CAUSE_STRAY_SIGNAL, /* number: the signal; nobody sent it with us */
	TH_CAUSE_SENT_SIGNAL, /* number: the signal, sent by a person */
	TH_CAUSE_MEMORY, /* the kernel, as its memory was used up */
	TH_CAUSE_STOPPED,
	TH_CAUSE_STOPPED_DUE, /* and it stays due to be started */
	TH_CAUSE_STOPPED_TO_RESTART,
	TH_CAUSE_KEEPER_ENDED, /* a signal to its keeper, as at a shutdown */
	TH_CAUSE_SERVICE_ENDED, /* the same from a service manager */
	TH_CAUSE_COMMAND_GONE, /* the command that it was started for */
	TH_CAUSE_POLICY_NEVER, /* its restart policy became never */
	TH_CAUSE_PROBE_FAILED, /* number: times in a row, text: the answer */
	TH_CAUSE_COULD_NOT_START, /* text: why; trouble */
	TH_CAUSE_KEEPER_LOST,
	TH_CAUSE_HOST_RESTARTED,
	/* What is no end. */
	TH_CAUSE_START_KILLED, /* its keeper, while it started it */
	TH_CAUSE_PROBE_SUCCEEDED,
	TH_CAUSE_PROBE_CHANGED,
	TH_CAUSE_PROBE_DROPPED,
	TH_CAUSE_RENAMED, /* text: the former name, more: the new one */
	TH_CAUSE_LIMITS, /* text: those from now on; "" for none */
	TH_CAUSE_POLICY, /* text: the restart policy from now on */
	TH_CAUSE_PROBE, /* text: the probe from now on; "" for none */
	TH_CAUSE_POLICY_AND_PROBE, /* text, more */
	TH_CAUSE_SESSIONS_ENDED, /* number of them */
	TH_CAUSE_PROCESSES_REFUSED, /* number of them, limit */
	TH_CAUSE_HOST_USERS, /* text: why it has no user IDs of its own */
	TH_CAUSE_PILOT_KILLED,
	TH_CAUSE_RELAY_RESTARTED,
	TH_CAUSE_RELAY_DEAD,
	TH_CAUSE_LOG_FAILED, /* text: why */
	TH_CAUSE_LOG_AGAIN, /* number of entries lost */
	TH_CAUSE_STATE_AGAIN, /* number of events lost */
	TH_CAUSE_TAKEN_UP, /* the state was lost; its keeper has told it again
			    */
	TH_CAUSE_PLACE_TAKEN, /* text: the ID of the one before it */
	TH_CAUSE_PLACE_TAKEN_BACK, /* text: of the one after it */
	TH_CAUSE_PLACE_GIVEN, /* text: of the one after it */
	TH_CAUSE_SUCCESSOR_FAILED, /* text: what was wrong with it */
	TH_CAUSE_FOLDED, /* number of older events that stand here as one */
	TH_CAUSE_COUNT
};

struct th_cause {
	enum th_cause_kind kind;
	enum th_trouble trouble; /* base/error.h */
	int64_t number, limit;
	char text[256], more[128];
	bool by_force; /* the grace period was over */
	bool while_waiting; /* for its next try */
	bool discarded; /* it was not to be kept */
	int attempt; /* 0; else the next try comes in wait_ms */
	int64_t wait_ms;
};

#define TH_CAUSE_TEXT 512 /* for people */
#define TH_CAUSE_JSON 1024

/* The kind as a word for programs, as docs/json.md lists them. */
const char *th_cause_word(enum th_cause_kind kind);

/* In one sentence without a capital or a full stop. */
void th_cause_format(const struct th_cause *cause, char text[TH_CAUSE_TEXT]);

/* As the state keeps it: a JSON object; members that say nothing are left
 * out. Text that does not fit is cut between characters. */
void th_cause_write(const struct th_cause *cause, char text[TH_CAUSE_JSON]);
/* Back from that. What is no such object is TH_CAUSE_TOLD with the text. */
void th_cause_read(const char *text, struct th_cause *cause);

/* True where a person, or a program in the person's place, wanted the end. */
bool th_cause_is_asked(const struct th_cause *cause);
/* True for the stops of tidyhull stop and restart. */
bool th_cause_is_stop(const struct th_cause *cause);

/* A start that failed, with err's message and trouble. */
void th_cause_of_start(const struct th_error *err, struct th_cause *cause);

#endif
