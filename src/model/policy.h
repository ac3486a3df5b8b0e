/* Restart policies: what they say, and what follows from them. */
#ifndef TH_MODEL_POLICY_H
#define TH_MODEL_POLICY_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"
#include "model/cause.h"

#define TH_POLICY_TEXT 128

enum th_policy_kind { TH_NEVER, TH_ON_FAILURE, TH_ALWAYS };

struct th_policy {
	enum th_policy_kind kind;
	bool on_ailing; /* an ailing container is stopped and tried again */
	int tries; /* in a row; 0: without end */
	int64_t delay_ms, ceiling_ms; /* of the first wait, of any wait */
	int64_t reset_ms; /* a run that long begins a new row */
};

/* Reads "never", "on-failure", "always" or "on-ailing", with ",tries=5",
 * ",delay=1s", ",ceiling=1m", ",reset=5m" and ",on-ailing" behind it; "" is
 * never. TH_USAGE otherwise. */
int th_policy_parse(
	const char *text, struct th_policy *policy, struct th_error *err);
/* Such a text, without what is the default. */
void th_policy_format(
	const struct th_policy *policy, char text[TH_POLICY_TEXT]);
json_t *th_policy_to_json(const struct th_policy *policy);
int th_policy_from_json(
	const json_t *doc, struct th_policy *policy, struct th_error *err);

/* How a run ended, as far as policies care. */
struct th_run {
	enum th_outcome outcome;
	int code;
	int64_t ran_ms;
	bool by_person; /* somebody stopped it */
	bool ailing; /* it was stopped because its probe failed */
	int tries; /* restarts in a row before this run */
};

struct th_verdict {
	bool again;
	int64_t wait_ms;
	int tries; /* in a row, with the one to come */
	char why[160]; /* "its restart policy is never" */
};

/* What follows from the end of a run. Counts as failure: an exit code other
 * than 0, a signal, out of memory, a program that could not be started, an
 * ailing container. */
void th_policy_judge(const struct th_policy *policy, const struct th_run *run,
	struct th_verdict *verdict);

#endif
