/* Causes of events: their text, and the form in which the state keeps them. */
#include <stdio.h>
#include <string.h>

#include "model/cause.h"
#include "unit/unit.h"

static bool equal(const struct th_cause *one, const struct th_cause *other)
{
	return one->kind == other->kind && one->trouble == other->trouble &&
		one->number == other->number && one->limit == other->limit &&
		strcmp(one->text, other->text) == 0 &&
		strcmp(one->more, other->more) == 0 &&
		one->by_force == other->by_force &&
		one->while_waiting == other->while_waiting &&
		one->discarded == other->discarded &&
		one->attempt == other->attempt &&
		one->wait_ms == other->wait_ms;
}

static void each_kind_comes_back(void)
{
	for (int i = 0; i < TH_CAUSE_COUNT; i++) {
		struct th_cause cause = {.kind = (enum th_cause_kind)i,
			.trouble = TH_TROUBLE_MOUNT,
			.number = INT64_MIN,
			.limit = INT64_MAX,
			.text = "said \"so\"\n\\ f\xc3\xbcr",
			.more = "\x01 and {text}",
			.by_force = i % 2,
			.while_waiting = i % 3 == 0,
			.discarded = i % 5 == 0,
			.attempt = i,
			.wait_ms = 86400000};
		struct th_cause back, again = {.kind = (enum th_cause_kind)i};
		char text[TH_CAUSE_JSON], words[TH_CAUSE_TEXT];

		th_cause_write(&cause, text);
		th_cause_read(text, &back);
		CHECK(equal(&cause, &back));
		th_cause_write(&again, text);
		th_cause_read(text, &back);
		CHECK(equal(&again, &back));
		/* Each has words of its own, and no hole is left in them. */
		th_cause_format(&again, words);
		CHECK(strchr(words, '{') == NULL);
		CHECK(i == TH_CAUSE_NONE || words[0]);
		for (int j = 0; j < i; j++)
			CHECK(strcmp(th_cause_word((enum th_cause_kind)j),
				      th_cause_word((enum th_cause_kind)i)) !=
				0);
	}
}

static void text_is_made_of_the_arguments(void)
{
	char text[TH_CAUSE_TEXT];

	th_cause_format(&(struct th_cause){.kind = TH_CAUSE_PROBE_FAILED,
				.number = 3,
				.text = "status 503"},
		text);
	CHECK_TEXT(text, "its probe failed 3 times in a row: status 503");
	th_cause_format(
		&(struct th_cause){.kind = TH_CAUSE_STOPPED, .by_force = true},
		text);
	CHECK_TEXT(text, "stopped, and killed after the grace period");
	th_cause_format(
		&(struct th_cause){
			.kind = TH_CAUSE_ENDED, .attempt = 2, .wait_ms = 4000},
		text);
	CHECK_TEXT(text, "its process ended; attempt 2 in 4 s");
	th_cause_format(&(struct th_cause){.kind = TH_CAUSE_SESSIONS_ENDED,
				.number = 1},
		text);
	CHECK_TEXT(text, "1 session ended with it");
	th_cause_format(&(struct th_cause){.kind = TH_CAUSE_LIMITS}, text);
	CHECK_TEXT(text, "its limits are now: none");
	th_cause_format(
		&(struct th_cause){.kind = (enum th_cause_kind)9999}, text);
	CHECK_TEXT(text, "");
}

/* A probe's answer may be anything. */
static void what_is_no_text_is_kept_as_far_as_it_goes(void)
{
	struct th_cause cause = {.kind = TH_CAUSE_PROBE_FAILED}, back;
	char text[TH_CAUSE_JSON], words[TH_CAUSE_TEXT];

	memset(cause.text, '\xff', sizeof(cause.text) - 1);
	th_cause_write(&cause, text);
	th_cause_read(text, &back);
	CHECK_INT(back.kind, TH_CAUSE_PROBE_FAILED);
	CHECK_INT(strspn(back.text, "?"), sizeof(cause.text) - 1);
	th_cause_format(&cause, words);
	CHECK(strlen(words) < sizeof(words));
	/* Each becomes six bytes: the kind is what stays. */
	memset(cause.text, '\x01', sizeof(cause.text) - 1);
	th_cause_write(&cause, text);
	th_cause_read(text, &back);
	CHECK_INT(back.kind, TH_CAUSE_PROBE_FAILED);
}

static void other_words_are_told(void)
{
	static const char *const odd[] = {"its process ended", "{", "[]",
		"{\"kind\":\"unheard-of\"}", "{\"kind\":7}", "null",
		"{\"kind\":\"ended\",\"kind\":\"ended\"}"};
	struct th_cause cause;
	char text[TH_CAUSE_TEXT];

	for (size_t i = 0; i < COUNT_OF(odd); i++) {
		th_cause_read(odd[i], &cause);
		CHECK_INT(cause.kind, TH_CAUSE_TOLD);
		th_cause_format(&cause, text);
		CHECK_TEXT(text, odd[i]);
	}
	th_cause_read("", &cause);
	CHECK_INT(cause.kind, TH_CAUSE_NONE);
	th_cause_read(
		"{\"kind\":\"ended\",\"trouble\":99,\"number\":\"x\"}", &cause);
	CHECK_INT(cause.kind, TH_CAUSE_ENDED);
	CHECK_INT(cause.trouble, TH_TROUBLE_NONE);
}

static void who_wanted_an_end(void)
{
	const struct th_cause stopped = {.kind = TH_CAUSE_STOPPED};
	const struct th_cause sent = {.kind = TH_CAUSE_SENT_SIGNAL};
	const struct th_cause ended = {.kind = TH_CAUSE_ENDED};

	CHECK(th_cause_is_stop(&stopped) && th_cause_is_asked(&stopped));
	CHECK(!th_cause_is_stop(&sent) && th_cause_is_asked(&sent));
	CHECK(!th_cause_is_stop(&ended) && !th_cause_is_asked(&ended));
}

static void a_failed_start_keeps_its_trouble(void)
{
	struct th_error err = {0};
	struct th_cause cause;

	th_trouble(&err, TH_TROUBLE_PORT);
	CHECK_INT(err.trouble, TH_TROUBLE_NONE); /* there is no error yet */
	th_fail(&err, TH_IN_USE, "port 80/tcp is in use");
	th_trouble(&err, TH_TROUBLE_PORT);
	th_trouble(&err, TH_TROUBLE_MOUNT); /* the first one counts */
	th_cause_of_start(&err, &cause);
	CHECK_INT(cause.kind, TH_CAUSE_COULD_NOT_START);
	CHECK_INT(cause.trouble, TH_TROUBLE_PORT);
	CHECK_TEXT(cause.text, "port 80/tcp is in use");
}

static const CU_TestInfo tests[] = {
	{"each kind comes back", each_kind_comes_back},
	{"text is made of the arguments", text_is_made_of_the_arguments},
	{"what is no text is kept as far as it goes",
		what_is_no_text_is_kept_as_far_as_it_goes},
	{"other words are told", other_words_are_told},
	{"who wanted an end", who_wanted_an_end},
	{"a failed start keeps its trouble", a_failed_start_keeps_its_trouble},
	CU_TEST_INFO_NULL};

const struct suite suite_cause = {"cause", tests};
