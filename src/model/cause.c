#include "model/cause.h"

#include <inttypes.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/utf8.h"

static const char *const outcomes[] = {"", "exited", "signal", "out-of-memory",
	"could-not-start", "host-restarted", "keeper-lost"};

const char *th_outcome_word(enum th_outcome outcome)
{
	return outcomes[outcome];
}

enum th_outcome th_outcome_parse(const char *word)
{
	for (size_t i = 0; i < sizeof(outcomes) / sizeof(*outcomes); i++) {
		if (strcmp(word, outcomes[i]) == 0)
			return (enum th_outcome)i;
	}
	return TH_OUTCOME_NONE;
}

/* What stands for a kind in the state and in JSON output: never changed. The
 * text has room for {text}, {more}, {number} and {limit}, and {s} for the
 * plural of the number. */
static const struct {
	const char *word, *text;
} kinds[TH_CAUSE_COUNT] = {
	[TH_CAUSE_NONE] = {"none", ""},
	[TH_CAUSE_TOLD] = {"told", "{text}"},
	[TH_CAUSE_CREATED] = {"created", "created"},
	[TH_CAUSE_STARTED] = {"started", "started"},
	[TH_CAUSE_STARTED_AGAIN] = {"started-again", "started again"},
	[TH_CAUSE_PAUSED] = {"paused", "paused"},
	[TH_CAUSE_RESUMED] = {"resumed", "resumed"},
	[TH_CAUSE_REMOVED] = {"removed", "removed"},
	[TH_CAUSE_ENDED] = {"ended", "its process ended"},
	[TH_CAUSE_STRAY_SIGNAL] = {"stray-signal",
		"its process was ended by signal {number}, which nobody sent "
		"through tidyhull"},
	[TH_CAUSE_SENT_SIGNAL] = {"sent-signal", "was sent signal {number}"},
	[TH_CAUSE_MEMORY] = {"out-of-memory",
		"the kernel ended it: its memory was used up"},
	[TH_CAUSE_STOPPED] = {"stopped", "stopped"},
	[TH_CAUSE_STOPPED_DUE] = {"stopped-due", "stopped, and stays due"},
	[TH_CAUSE_STOPPED_TO_RESTART] = {"stopped-to-restart",
		"stopped to be restarted"},
	[TH_CAUSE_KEEPER_ENDED] = {"keeper-ended",
		"its keeper was asked to end"},
	[TH_CAUSE_SERVICE_ENDED] = {"service-ended",
		"its keeper was asked to end"},
	[TH_CAUSE_COMMAND_GONE] = {"command-gone",
		"the command that it was started for has gone"},
	[TH_CAUSE_POLICY_NEVER] = {"policy-never",
		"its restart policy became never"},
	[TH_CAUSE_PROBE_FAILED] = {"probe-failed",
		"its probe failed {number} time{s} in a row: {text}"},
	[TH_CAUSE_COULD_NOT_START] = {"could-not-start",
		"could not be started: {text}"},
	[TH_CAUSE_KEEPER_LOST] = {"keeper-lost", "found without its keeper"},
	[TH_CAUSE_HOST_RESTARTED] = {"host-restarted",
		"found after a restart of the host"},
	[TH_CAUSE_START_KILLED] = {"start-killed",
		"its keeper was killed during the start"},
	[TH_CAUSE_PROBE_SUCCEEDED] = {"probe-succeeded", "its probe succeeded"},
	[TH_CAUSE_PROBE_CHANGED] = {"probe-changed", "has another probe"},
	[TH_CAUSE_PROBE_DROPPED] = {"probe-dropped", "has no probe now"},
	[TH_CAUSE_RENAMED] = {"renamed", "renamed from {text} to {more}"},
	[TH_CAUSE_LIMITS] = {"limits", "its limits are now: {text}"},
	[TH_CAUSE_POLICY] = {"policy", "its restart policy is now {text}"},
	[TH_CAUSE_PROBE] = {"probe", "its probe is now {text}"},
	[TH_CAUSE_POLICY_AND_PROBE] = {"policy-and-probe",
		"its restart policy is now {text}, its probe is now {more}"},
	[TH_CAUSE_SESSIONS_ENDED] = {"sessions-ended",
		"{number} session{s} ended with it"},
	[TH_CAUSE_PROCESSES_REFUSED] = {"processes-refused",
		"{number} time{s} a new process was refused: its limit is "
		"{limit}"},
	[TH_CAUSE_HOST_USERS] = {"host-users",
		"its user IDs are the host's: {text}"},
	[TH_CAUSE_PILOT_KILLED] = {"pilot-killed",
		"the program that holds its networks was killed: it can no "
		"longer reach the outside, nor containers that start from now "
		"on"},
	[TH_CAUSE_RELAY_RESTARTED] = {"relay-restarted",
		"the program that carries its ports was killed, and started "
		"again"},
	[TH_CAUSE_RELAY_DEAD] = {"relay-dead",
		"the program that carries its ports was killed: its ports are "
		"dead until it is restarted"},
	[TH_CAUSE_LOG_FAILED] = {"log-failed",
		"its log cannot be written{text}"},
	[TH_CAUSE_LOG_AGAIN] = {"log-again",
		"its log is being written again; {number} entries were lost"},
	[TH_CAUSE_STATE_AGAIN] = {"state-again",
		"the state can be written again; {number} event{s} in between "
		"stand nowhere"},
	[TH_CAUSE_TAKEN_UP] = {"taken-up",
		"taken up again, as the state was lost"},
	[TH_CAUSE_PLACE_TAKEN] = {"place-taken", "took the place of {text}"},
	[TH_CAUSE_PLACE_TAKEN_BACK] = {"place-taken-back",
		"took its place back from {text}"},
	[TH_CAUSE_PLACE_GIVEN] = {"place-given", "gave its place to {text}"},
	[TH_CAUSE_SUCCESSOR_FAILED] = {"successor-failed", "{text}"},
	[TH_CAUSE_FOLDED] = {"folded",
		"{number} older event{s} are not kept one by one"},
};

const char *th_cause_word(enum th_cause_kind kind)
{
	return (unsigned int)kind < TH_CAUSE_COUNT ? kinds[kind].word : "none";
}

/* Appends at most len bytes, whole characters only. */
static void add_part(char *to, size_t size, const char *text, size_t len)
{
	size_t used = strlen(to), at = 0;

	while (at < len && text[at]) {
		size_t step = th_utf8_length(
			(const unsigned char *)text + at, len - at);
		bool fits = step > 0;

		if (!fits)
			step = 1;
		if (used + step + 1 > size)
			break;
		if (fits)
			memcpy(to + used, text + at, step);
		else
			to[used] = '?';
		used += step;
		at += step;
	}
	to[used] = '\0';
}

static void add(char *to, size_t size, const char *text)
{
	add_part(to, size, text, strlen(text));
}

static void add_number(char *to, size_t size, int64_t number)
{
	char text[24];

	snprintf(text, sizeof(text), "%" PRId64, number);
	add(to, size, text);
}

static void fill_in(const struct th_cause *cause, const char *name, size_t len,
	char *text, size_t size)
{
	if (strncmp(name, "text", len) == 0)
		add(text, size,
			cause->text[0] || cause->kind == TH_CAUSE_LOG_FAILED
				? cause->text
				: "none");
	else if (strncmp(name, "more", len) == 0)
		add(text, size, cause->more[0] ? cause->more : "none");
	else if (strncmp(name, "number", len) == 0)
		add_number(text, size, cause->number);
	else if (strncmp(name, "limit", len) == 0)
		add_number(text, size, cause->limit);
	else if (strncmp(name, "s", len) == 0 && cause->number != 1)
		add(text, size, "s");
}

void th_cause_format(const struct th_cause *cause, char text[TH_CAUSE_TEXT])
{
	const char *at = kinds[(unsigned int)cause->kind < TH_CAUSE_COUNT
			? cause->kind
			: TH_CAUSE_NONE]
				 .text;
	char span[TH_TIME_TEXT];

	text[0] = '\0';
	while (*at) {
		size_t len = strcspn(at, "{");
		size_t name;

		add_part(text, TH_CAUSE_TEXT, at, len);
		at += len;
		if (!*at)
			break;
		name = strcspn(at + 1, "}");
		fill_in(cause, at + 1, name, text, TH_CAUSE_TEXT);
		at += name + 2;
	}
	if (cause->by_force)
		add(text, TH_CAUSE_TEXT, ", and killed after the grace period");
	if (cause->while_waiting)
		add(text, TH_CAUSE_TEXT, " while it waited for its next try");
	if (cause->discarded)
		add(text, TH_CAUSE_TEXT, "; it was set to be discarded");
	if (!cause->attempt)
		return;
	th_clock_span(cause->wait_ms * 1000, span);
	add(text, TH_CAUSE_TEXT, "; attempt ");
	add_number(text, TH_CAUSE_TEXT, cause->attempt);
	add(text, TH_CAUSE_TEXT, " in ");
	add(text, TH_CAUSE_TEXT, span);
}

/* ---- as the state keeps it ---- */

static void put_text(json_t *doc, const char *key, const char *text)
{
	char clean[sizeof(((struct th_cause *)0)->text)] = "";

	if (!*text)
		return;
	add(clean, sizeof(clean), text);
	json_object_set_new(doc, key, json_string(clean));
}

static void put_number(json_t *doc, const char *key, int64_t number)
{
	if (number)
		json_object_set_new(doc, key, json_integer(number));
}

static void put_flag(json_t *doc, const char *key, bool flag)
{
	if (flag)
		json_object_set_new(doc, key, json_true());
}

void th_cause_write(const struct th_cause *cause, char text[TH_CAUSE_JSON])
{
	json_t *doc = json_object();
	size_t len;

	put_text(doc, "kind", th_cause_word(cause->kind));
	put_number(doc, "trouble", cause->trouble);
	put_number(doc, "number", cause->number);
	put_number(doc, "limit", cause->limit);
	put_text(doc, "text", cause->text);
	put_text(doc, "more", cause->more);
	put_flag(doc, "by-force", cause->by_force);
	put_flag(doc, "while-waiting", cause->while_waiting);
	put_flag(doc, "discarded", cause->discarded);
	put_number(doc, "attempt", cause->attempt);
	put_number(doc, "wait-ms", cause->wait_ms);
	len = doc ? json_dumpb(doc, text, TH_CAUSE_JSON - 1, JSON_COMPACT) : 0;
	/* Control characters take six bytes each: then the kind is what counts.
	 */
	if (len == 0 || len > TH_CAUSE_JSON - 1)
		len = (size_t)snprintf(text, TH_CAUSE_JSON, "{\"kind\":\"%s\"}",
			th_cause_word(cause->kind));
	text[len] = '\0';
	json_decref(doc);
}

static void take_text(
	const json_t *doc, const char *key, char *text, size_t size)
{
	const char *value = json_string_value(json_object_get(doc, key));

	if (value)
		add(text, size, value);
}

static int64_t number_of(const json_t *doc, const char *key)
{
	return json_integer_value(json_object_get(doc, key));
}

static enum th_cause_kind kind_of(const char *word)
{
	for (int i = 0; word && i < TH_CAUSE_COUNT; i++) {
		if (strcmp(word, kinds[i].word) == 0)
			return (enum th_cause_kind)i;
	}
	return TH_CAUSE_COUNT;
}

void th_cause_read(const char *text, struct th_cause *cause)
{
	json_t *doc = json_loads(text, JSON_REJECT_DUPLICATES, NULL);
	enum th_cause_kind kind =
		kind_of(json_string_value(json_object_get(doc, "kind")));
	int64_t trouble = number_of(doc, "trouble");

	memset(cause, 0, sizeof(*cause));
	if (kind == TH_CAUSE_COUNT) {
		cause->kind = *text ? TH_CAUSE_TOLD : TH_CAUSE_NONE;
		add(cause->text, sizeof(cause->text), text);
		json_decref(doc);
		return;
	}
	cause->kind = kind;
	if (trouble > 0 && trouble < TH_TROUBLE_COUNT)
		cause->trouble = (enum th_trouble)trouble;
	cause->number = number_of(doc, "number");
	cause->limit = number_of(doc, "limit");
	take_text(doc, "text", cause->text, sizeof(cause->text));
	take_text(doc, "more", cause->more, sizeof(cause->more));
	cause->by_force = json_is_true(json_object_get(doc, "by-force"));
	cause->while_waiting =
		json_is_true(json_object_get(doc, "while-waiting"));
	cause->discarded = json_is_true(json_object_get(doc, "discarded"));
	cause->attempt = (int)number_of(doc, "attempt");
	cause->wait_ms = number_of(doc, "wait-ms");
	json_decref(doc);
}

bool th_cause_is_stop(const struct th_cause *cause)
{
	return cause->kind == TH_CAUSE_STOPPED ||
		cause->kind == TH_CAUSE_STOPPED_DUE ||
		cause->kind == TH_CAUSE_STOPPED_TO_RESTART;
}

bool th_cause_is_asked(const struct th_cause *cause)
{
	return th_cause_is_stop(cause) || cause->kind == TH_CAUSE_SENT_SIGNAL ||
		cause->kind == TH_CAUSE_KEEPER_ENDED ||
		cause->kind == TH_CAUSE_SERVICE_ENDED ||
		cause->kind == TH_CAUSE_COMMAND_GONE ||
		cause->kind == TH_CAUSE_POLICY_NEVER ||
		cause->kind == TH_CAUSE_PROBE_FAILED;
}

void th_cause_of_start(const struct th_error *err, struct th_cause *cause)
{
	memset(cause, 0, sizeof(*cause));
	cause->kind = TH_CAUSE_COULD_NOT_START;
	cause->trouble = err->trouble;
	add(cause->text, sizeof(cause->text), err->msg);
}
