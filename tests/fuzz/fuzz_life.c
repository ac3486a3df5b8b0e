/* What people write about the life of a container: restart policies, probes,
 * log settings. */
#include <stdlib.h>
#include <string.h>

#include "fuzz.h"
#include "container/log.h"
#include "model/policy.h"
#include "model/probe.h"

/* What is read means the same after it was written, either way. */
static void policy_comes_back(const struct th_policy *policy)
{
	json_t *doc = th_policy_to_json(policy), *same;
	char text[TH_POLICY_TEXT];
	struct th_policy again;

	if (th_policy_from_json(doc, &again, NULL))
		abort();
	th_policy_format(&again, text);
	if (th_policy_parse(text, &again, NULL))
		abort();
	same = th_policy_to_json(&again);
	if (!json_equal(doc, same))
		abort();
	json_decref(doc);
	json_decref(same);
}

static void probe_comes_back(const struct th_probe *probe)
{
	json_t *doc = th_probe_to_json(probe), *same;
	struct th_probe again;
	char *text;

	/* Text that is not UTF-8 cannot be kept. */
	if (!doc)
		return;
	if (th_probe_from_json(doc, &again, NULL))
		abort();
	text = th_probe_format(&again);
	th_probe_release(&again);
	/* With all quotes it may have become too long. */
	if (text && strlen(text) < TH_PROBE_TEXT) {
		if (th_probe_parse(text, &again, NULL))
			abort();
		same = th_probe_to_json(&again);
		if (!json_equal(doc, same))
			abort();
		json_decref(same);
		th_probe_release(&again);
	}
	free(text);
	json_decref(doc);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = strndup((const char *)data, size);
	struct th_policy policy;
	struct th_probe probe;
	struct th_log_settings log;
	struct th_error err = {0};

	if (!text)
		return 0;
	if (th_policy_parse(text, &policy, &err) == 0) {
		struct th_run run = {.outcome = TH_OUTCOME_SIGNAL,
			.code = 9,
			.tries = (int)size};
		struct th_verdict verdict;

		th_policy_judge(&policy, &run, &verdict);
		if (verdict.again &&
			(verdict.wait_ms < 1 ||
				verdict.wait_ms > policy.ceiling_ms))
			abort();
		policy_comes_back(&policy);
	}
	th_error_clear(&err);
	if (th_probe_parse(text, &probe, &err) == 0) {
		if (probe.kind == TH_PROBE_EXEC && !probe.command.count)
			abort();
		probe_comes_back(&probe);
		th_probe_release(&probe);
	}
	th_error_clear(&err);
	if (th_log_settings_parse(text, &log, &err) == 0 && log.files < 1)
		abort();
	free(text);
	return 0;
}
