#include "model/policy.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "base/clock.h"
#include "base/distance.h"
#include "base/json.h"

#define TRIES_MAX 1000000
#define SPAN_MAX_US ((int64_t)7 * 86400 * 1000000)

static const struct th_policy usual = {.kind = TH_NEVER,
	.delay_ms = 1000,
	.ceiling_ms = 60 * 1000,
	.reset_ms = 5 * 60 * 1000};

/* Other words for a policy, and mistyped ones. */
static const char *meant(const char *part)
{
	static const char *const names[] = {
		"never", "always", "on-failure", NULL};
	static const char *const others[][2] = {{"yes", "always"},
		{"true", "always"}, {"on", "always"}, {"boot", "always"},
		{"forever", "always"}, {"no", "never"}, {"none", "never"},
		{"false", "never"}, {"off", "never"}, {"failure", "on-failure"},
		{"on-error", "on-failure"}, {"on-fail", "on-failure"},
		{"onfailure", "on-failure"}};

	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		if (strcasecmp(part, others[i][0]) == 0)
			return others[i][1];
	}
	return th_nearest(part, names);
}

static int wrong(const char *part, struct th_error *err)
{
	th_fail(err, TH_USAGE,
		"\"%.80s\" is not a valid part of a restart policy", part);
	if (strncmp(part, "on-failure", 10) == 0 &&
		(part[10] == ':' || part[10] == '='))
		return th_hint(err, "it is: --restart on-failure,tries=%.20s",
			part + 11);
	if (strncmp(part, "tries:", 6) == 0 || strncmp(part, "delay:", 6) == 0)
		return th_hint(err, "it is: --restart on-failure,%.5s=%.20s",
			part, part + 6);
	if (*part && part[strspn(part, "0123456789")] == '\0')
		return th_hint(
			err, "it is: --restart on-failure,tries=%.20s", part);
	if (meant(part))
		return th_hint(err, "it is: --restart %s", meant(part));
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

	*policy = usual;
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

/* ---- and back ---- */

static const char *const kinds[] = {[TH_NEVER] = "never",
	[TH_ON_FAILURE] = "on-failure",
	[TH_ALWAYS] = "always"};

static void add_span(char text[TH_POLICY_TEXT], const char *name,
	int64_t span_ms, int64_t usual_ms)
{
	size_t used = strlen(text);
	char span[TH_TIME_TEXT];

	if (span_ms == usual_ms)
		return;
	th_clock_exact_span(span_ms, span);
	snprintf(text + used, TH_POLICY_TEXT - used, ",%s=%s", name, span);
}

void th_policy_format(const struct th_policy *policy, char text[TH_POLICY_TEXT])
{
	bool plain = policy->kind == TH_ON_FAILURE && policy->on_ailing;
	int64_t ceiling_ms = usual.ceiling_ms > policy->delay_ms
		? usual.ceiling_ms
		: policy->delay_ms;
	size_t used;

	snprintf(text, TH_POLICY_TEXT, "%s%s",
		plain ? "on-ailing" : kinds[policy->kind],
		policy->on_ailing && !plain ? ",on-ailing" : "");
	used = strlen(text);
	if (policy->tries)
		snprintf(text + used, TH_POLICY_TEXT - used, ",tries=%d",
			policy->tries);
	add_span(text, "delay", policy->delay_ms, usual.delay_ms);
	add_span(text, "ceiling", policy->ceiling_ms, ceiling_ms);
	add_span(text, "reset", policy->reset_ms, usual.reset_ms);
}

json_t *th_policy_to_json(const struct th_policy *policy)
{
	return json_pack("{s:s s:b s:i s:I s:I s:I}", "kind",
		kinds[policy->kind], "on-ailing", policy->on_ailing, "tries",
		policy->tries, "delay-ms", (json_int_t)policy->delay_ms,
		"ceiling-ms", (json_int_t)policy->ceiling_ms, "reset-ms",
		(json_int_t)policy->reset_ms);
}

int th_policy_from_json(
	const json_t *doc, struct th_policy *policy, struct th_error *err)
{
	static const char what[] = "a restart policy";
	const char *kind = NULL;
	int64_t tries = 0;
	size_t number = 0;

	*policy = usual;
	if (th_json_string(doc, "kind", what, &kind, err) < 0 ||
		th_json_bool(doc, "on-ailing", what, &policy->on_ailing, err) <
			0 ||
		th_json_int(doc, "tries", what, &tries, err) < 0 ||
		th_json_int(doc, "delay-ms", what, &policy->delay_ms, err) <
			0 ||
		th_json_int(doc, "ceiling-ms", what, &policy->ceiling_ms, err) <
			0 ||
		th_json_int(doc, "reset-ms", what, &policy->reset_ms, err) < 0)
		return -1;
	while (number <= TH_ALWAYS && strcmp(kind ? kind : "", kinds[number]))
		number++;
	if (number > TH_ALWAYS || tries < 0 || tries > TRIES_MAX ||
		policy->delay_ms < 1 || policy->ceiling_ms < policy->delay_ms ||
		policy->ceiling_ms > SPAN_MAX_US / 1000 || policy->reset_ms < 1)
		return th_fail(err, TH_FAILED, "%s is not valid", what);
	policy->kind = (enum th_policy_kind)number;
	policy->tries = (int)tries;
	return 0;
}

/* ---- what follows ---- */

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
