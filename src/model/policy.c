#include "model/policy.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"

#define TRIES_MAX 1000000
#define SPAN_MAX_US ((int64_t)7 * 86400 * 1000000)

static int wrong(const char *part, struct th_error *err)
{
	th_fail(err, TH_USAGE,
		"\"%.80s\" is not a valid part of a restart policy", part);
	return th_hint(err,
		"for example never, always, or "
		"on-failure,tries=5,delay=1s,ceiling=1m");
}

static int take_span(const char *part, const char *text, int64_t *span_ms,
	struct th_error *err)
{
	int64_t span_us;

	if (th_clock_parse_span(text, &span_us) || span_us < 1000 ||
		span_us > SPAN_MAX_US)
		return wrong(part, err);
	*span_ms = span_us / 1000;
	return 0;
}

static int take_part(
	struct th_policy *policy, const char *part, struct th_error *err)
{
	char *end;
	long tries;

	if (strcmp(part, "on-ailing") == 0) {
		policy->on_ailing = true;
		return 0;
	}
	if (strncmp(part, "tries=", 6) == 0) {
		tries = strtol(part + 6, &end, 10);
		if (end == part + 6 || *end || tries < 1 || tries > TRIES_MAX)
			return wrong(part, err);
		policy->tries = (int)tries;
		return 0;
	}
	if (strncmp(part, "delay=", 6) == 0)
		return take_span(part, part + 6, &policy->delay_ms, err);
	if (strncmp(part, "ceiling=", 8) == 0)
		return take_span(part, part + 8, &policy->ceiling_ms, err);
	if (strncmp(part, "reset=", 6) == 0)
		return take_span(part, part + 6, &policy->reset_ms, err);
	return wrong(part, err);
}

int th_policy_parse(
	const char *text, struct th_policy *policy, struct th_error *err)
{
	char copy[TH_POLICY_TEXT], *part, *rest = NULL;

	*policy = (struct th_policy){.kind = TH_NEVER,
		.delay_ms = 1000,
		.ceiling_ms = 60 * 1000,
		.reset_ms = 5 * 60 * 1000};
	if (strlen(text) >= sizeof(copy))
		return wrong(text, err);
	snprintf(copy, sizeof(copy), "%s", text);
	part = strtok_r(copy, ",", &rest);
	if (!part)
		return *text ? wrong(text, err) : 0;
	if (strcmp(part, "on-failure") == 0) {
		policy->kind = TH_ON_FAILURE;
	} else if (strcmp(part, "always") == 0) {
		policy->kind = TH_ALWAYS;
	} else if (strcmp(part, "on-ailing") == 0) {
		/* To be ailing is one way to fail. */
		policy->kind = TH_ON_FAILURE;
		policy->on_ailing = true;
	} else if (strcmp(part, "never") != 0) {
		return wrong(part, err);
	} else if ((part = strtok_r(NULL, ",", &rest))) {
		return wrong(part, err);
	}
	while ((part = strtok_r(NULL, ",", &rest))) {
		if (take_part(policy, part, err))
			return -1;
	}
	if (policy->ceiling_ms < policy->delay_ms)
		policy->ceiling_ms = policy->delay_ms;
	return 0;
}

static bool failed(const struct th_run *run)
{
	return run->ailing || run->outcome != TH_OUTCOME_EXITED || run->code;
}

void th_policy_judge(const struct th_policy *policy, const struct th_run *run,
	struct th_verdict *verdict)
{
	int before = run->ran_ms >= policy->reset_ms ? 0 : run->tries;
	int64_t wait_ms = policy->delay_ms;

	memset(verdict, 0, sizeof(*verdict));
	verdict->tries = run->tries;
	if (run->by_person) {
		snprintf(verdict->why, sizeof(verdict->why),
			"a person's stop holds until a start");
		return;
	}
	if (policy->kind == TH_NEVER) {
		snprintf(verdict->why, sizeof(verdict->why),
			"its restart policy is never");
		return;
	}
	if (policy->kind == TH_ON_FAILURE && !failed(run)) {
		snprintf(verdict->why, sizeof(verdict->why),
			"it did not fail, and its restart policy is "
			"on-failure");
		return;
	}
	if (policy->tries && before >= policy->tries) {
		snprintf(verdict->why, sizeof(verdict->why),
			"all %d tries of its restart policy are used up",
			policy->tries);
		return;
	}
	for (int i = 0; i < before && wait_ms < policy->ceiling_ms; i++)
		wait_ms *= 2;
	verdict->again = true;
	verdict->wait_ms =
		wait_ms < policy->ceiling_ms ? wait_ms : policy->ceiling_ms;
	verdict->tries = before + 1;
	snprintf(verdict->why, sizeof(verdict->why), "its restart policy is %s",
		policy->kind == TH_ALWAYS ? "always" : "on-failure");
}
