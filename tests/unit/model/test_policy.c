/* Restart policies and probes: what is written, and what follows. */
#include <string.h>

#include "model/policy.h"
#include "model/probe.h"
#include "unit/unit.h"

static void policies_are_read(void)
{
	static const char *const bad[] = {"sometimes", "never,tries=3",
		"on-failure,tries=0", "always,delay=", "always,delay=1x",
		"on-failure,tries=5,", "always,always", ","};
	struct th_policy policy;
	struct th_error err = {0};

	CHECK_INT(th_policy_parse("", &policy, &err), 0);
	CHECK_INT(policy.kind, TH_NEVER);
	CHECK_INT(th_policy_parse("on-failure,tries=5,delay=2s,ceiling=10s,"
				  "reset=1m",
			  &policy, &err),
		0);
	CHECK_INT(policy.kind, TH_ON_FAILURE);
	CHECK_INT(policy.tries, 5);
	CHECK_INT(policy.delay_ms, 2000);
	CHECK_INT(policy.ceiling_ms, 10000);
	CHECK_INT(policy.reset_ms, 60000);
	CHECK(!policy.on_ailing);
	CHECK_INT(th_policy_parse("always,on-ailing", &policy, &err), 0);
	CHECK(policy.on_ailing && policy.kind == TH_ALWAYS);
	CHECK_INT(th_policy_parse("on-ailing", &policy, &err), 0);
	CHECK(policy.on_ailing && policy.kind == TH_ON_FAILURE);
	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		th_error_clear(&err);
		/* A comma at the end is the one that is forgiven. */
		if (strcmp(bad[i], "on-failure,tries=5,") == 0)
			continue;
		CHECK_INT(th_policy_parse(bad[i], &policy, &err), -1);
		CHECK_INT(err.code, TH_USAGE);
	}
}

static struct th_verdict judge(const char *text, struct th_run run)
{
	struct th_policy policy;
	struct th_verdict verdict;
	struct th_error err = {0};

	CHECK_INT(th_policy_parse(text, &policy, &err), 0);
	th_policy_judge(&policy, &run, &verdict);
	return verdict;
}

static void what_counts_as_failure(void)
{
	const struct th_run good = {.outcome = TH_OUTCOME_EXITED};
	const struct th_run bad = {.outcome = TH_OUTCOME_EXITED, .code = 1};
	const struct th_run ailing = {
		.outcome = TH_OUTCOME_EXITED, .ailing = true};
	static const enum th_outcome failures[] = {TH_OUTCOME_SIGNAL,
		TH_OUTCOME_OUT_OF_MEMORY, TH_OUTCOME_COULD_NOT_START};

	CHECK(!judge("never", bad).again);
	CHECK(!judge("on-failure", good).again);
	CHECK(judge("on-failure", bad).again);
	CHECK(judge("on-failure", ailing).again);
	CHECK(judge("always", good).again);
	for (size_t i = 0; i < COUNT_OF(failures); i++) {
		const struct th_run run = {.outcome = failures[i], .code = 9};

		CHECK(judge("on-failure", run).again);
		CHECK(!judge("", run).again);
	}
}

static void a_persons_stop_holds(void)
{
	const struct th_run run = {
		.outcome = TH_OUTCOME_SIGNAL, .code = 15, .by_person = true};
	struct th_verdict verdict = judge("always", run);

	CHECK(!verdict.again);
	CHECK(strstr(verdict.why, "stop holds") != NULL);
}

static void waits_grow_to_the_ceiling(void)
{
	static const int64_t waits[] = {1000, 2000, 4000, 5000, 5000};
	struct th_run run = {.outcome = TH_OUTCOME_EXITED, .code = 1};

	for (size_t i = 0; i < COUNT_OF(waits); i++) {
		struct th_verdict verdict =
			judge("on-failure,delay=1s,ceiling=5s", run);

		CHECK(verdict.again);
		CHECK_INT(verdict.wait_ms, waits[i]);
		CHECK_INT(verdict.tries, i + 1);
		run.tries = verdict.tries;
	}
	/* A million in a row overflow nothing. */
	run.tries = 1000000;
	CHECK_INT(judge("always,ceiling=5s", run).wait_ms, 5000);
}

static void tries_end_and_begin_again(void)
{
	struct th_run run = {
		.outcome = TH_OUTCOME_EXITED, .code = 1, .tries = 3};

	CHECK(!judge("on-failure,tries=3", run).again);
	CHECK(judge("on-failure,tries=4", run).again);
	/* After a good while it is a new row. */
	run.ran_ms = 5 * 60 * 1000;
	CHECK(judge("on-failure,tries=3", run).again);
	CHECK_INT(judge("on-failure,tries=3", run).tries, 1);
	CHECK_INT(judge("on-failure,tries=3", run).wait_ms, 1000);
}

static void statuses_are_accepted(void)
{
	static const struct {
		const char *text;
		int status;
		bool good;
	} cases[] = {{"http:80", 200, true}, {"http:80", 299, true},
		{"http:80", 199, false}, {"http:80", 301, false},
		{"http:80", 0, false}, {"http:80,accept=300-399", 301, true},
		{"http:80,accept=300-399", 204, true},
		{"http:80,accept=300-399", 400, false},
		{"http:80/a,accept=401,every=1s,accept=404", 404, true},
		{"http:80/a,accept=401,every=1s,accept=404", 401, true},
		{"http:80/a,accept=401,every=1s,accept=404", 402, false}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_probe probe;
		struct th_error err = {0};

		CHECK_INT(th_probe_parse(cases[i].text, &probe, &err), 0);
		CHECK_INT(th_probe_accepts(&probe, cases[i].status),
			cases[i].good);
		CHECK_INT(probe.limit, 4);
		th_probe_release(&probe);
	}
}

static void probes_are_read(void)
{
	static const char *const bad[] = {"http:", "http:0", "http:80x",
		"tcp:70000", "tcp:80/health", "exec:", "exec:'a",
		"exec:a,every=1s,fails=2", "ping:1",
		"tcp:80,every=", "tcp:80,limit=0", "tcp:80,colour=1",
		"tcp:80,accept=300", "http:80,accept=", "http:80,accept=99",
		"http:80,accept=600", "http:80,accept=399-300",
		"http:80,accept=200-",
		"http:80,accept=1,accept=2,accept=3,accept=4,accept=5",
		"http:80/a b"};
	struct th_probe probe;
	struct th_error err = {0};

	CHECK_INT(th_probe_parse(
			  "http:80/health?x=1,every=5s,limit=2", &probe, &err),
		0);
	CHECK_INT(probe.kind, TH_PROBE_HTTP);
	CHECK_INT(probe.port, 80);
	CHECK_TEXT(probe.path, "/health?x=1");
	CHECK_INT(probe.every_ms, 5000);
	CHECK_INT(probe.limit, 2);
	CHECK_INT(
		th_probe_parse("tcp:7070,grace=0,timeout=500ms", &probe, &err),
		0);
	CHECK_INT(probe.grace_ms, 0);
	CHECK_INT(probe.timeout_ms, 500);
	CHECK_INT(th_probe_parse(
			  "exec:sh -c 'a, b' \"c d\",every=1s", &probe, &err),
		0);
	CHECK_INT(probe.command.count, 4);
	CHECK_TEXT(probe.command.items[2], "a, b");
	CHECK_TEXT(probe.command.items[3], "c d");
	th_probe_release(&probe);
	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		th_error_clear(&err);
		CHECK_INT(th_probe_parse(bad[i], &probe, &err), -1);
		CHECK_INT(err.code, TH_USAGE);
	}
}

static void health_changes_at_the_limit(void)
{
	struct th_health health = {0};
	struct th_probe probe = {.limit = 3, .grace_ms = 1000};

	CHECK_TEXT(th_health_word(&health), "warming");
	/* In the grace nothing counts. */
	for (int i = 0; i < 10; i++)
		CHECK(!th_health_take(&health, &probe, false, 999));
	CHECK(!th_health_take(&health, &probe, false, 1000));
	CHECK(!th_health_take(&health, &probe, false, 1001));
	CHECK(th_health_take(&health, &probe, false, 1002));
	CHECK_TEXT(th_health_word(&health), "ailing");
	CHECK(th_health_take(&health, &probe, true, 1003));
	CHECK_TEXT(th_health_word(&health), "ready");
	CHECK(!th_health_take(&health, &probe, true, 1004));
	/* What was ready once has no grace any more; one answer mends it. */
	CHECK(!th_health_take(&health, &probe, false, 10));
	CHECK(!th_health_take(&health, &probe, false, 11));
	CHECK(!th_health_take(&health, &probe, true, 12));
	CHECK(!th_health_take(&health, &probe, false, 13));
	CHECK_TEXT(th_health_word(&health), "ready");
}

static const CU_TestInfo tests[] = {{"policies are read", policies_are_read},
	{"what counts as failure", what_counts_as_failure},
	{"a person's stop holds", a_persons_stop_holds},
	{"waits grow to the ceiling", waits_grow_to_the_ceiling},
	{"tries end and begin again", tries_end_and_begin_again},
	{"probes are read", probes_are_read},
	{"statuses are accepted", statuses_are_accepted},
	{"health changes at the limit", health_changes_at_the_limit},
	CU_TEST_INFO_NULL};

const struct suite suite_policy = {"policy", tests};
