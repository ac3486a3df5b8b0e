/* What people write about the life of a container: restart policies, probes,
 * log settings. */
#include <stdlib.h>
#include <string.h>

#include "fuzz.h"
#include "container/log.h"
#include "model/policy.h"
#include "model/probe.h"

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
	}
	th_error_clear(&err);
	if (th_probe_parse(text, &probe, &err) == 0) {
		if (probe.kind == TH_PROBE_EXEC && !probe.command.count)
			abort();
		th_probe_release(&probe);
	}
	th_error_clear(&err);
	if (th_log_settings(text, &log, &err) == 0 && log.files < 1)
		abort();
	free(text);
	return 0;
}
