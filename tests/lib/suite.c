#include "lib/suite.h"

#include <stdio.h>
#include <string.h>

const struct skip *suites_skipped;

static const char *reason_to_skip(const char *suite, const char *test)
{
	for (const struct skip *skip = suites_skipped; skip && skip->suite;
		skip++) {
		if (strcmp(skip->suite, suite) == 0 &&
			(!skip->test || strcmp(skip->test, test) == 0))
			return skip->reason;
	}
	return NULL;
}

static int tell_skipped(const struct suite *const *suites, const char *only)
{
	int count = 0;

	for (; *suites; suites++) {
		const CU_TestInfo *test = (*suites)->tests;

		for (; (!only || strcmp(only, (*suites)->name) == 0) &&
			test->pName;
			test++) {
			const char *reason =
				reason_to_skip((*suites)->name, test->pName);

			if (!reason)
				continue;
			printf("skipped: %s: %s (%s)\n", (*suites)->name,
				test->pName, reason);
			count++;
		}
	}
	return count;
}

bool is_int(long long actual, long long expected)
{
	if (actual == expected)
		return true;
	printf("\n    is %lld, not %lld\n", actual, expected);
	return false;
}

bool is_text(const char *actual, const char *expected)
{
	if (actual && expected && strcmp(actual, expected) == 0)
		return true;
	printf("\n    is:  %s\n    not: %s\n", actual ? actual : "(none)",
		expected ? expected : "(none)");
	return false;
}

int suites_run(const struct suite *const *suites, const char *only,
	void (*before)(void), void (*after)(void))
{
	const struct suite *const *all = suites;
	unsigned int failures;

	if (CU_initialize_registry() != CUE_SUCCESS)
		return 1;
	for (; *suites; suites++) {
		const CU_TestInfo *test = (*suites)->tests;
		CU_pSuite suite;

		if (only && strcmp(only, (*suites)->name) != 0)
			continue;
		suite = CU_add_suite_with_setup_and_teardown(
			(*suites)->name, NULL, NULL, before, after);
		for (; suite && test->pName; test++) {
			if (reason_to_skip((*suites)->name, test->pName))
				continue;
			if (!CU_add_test(suite, test->pName, test->pTestFunc))
				return 1;
		}
	}
	CU_basic_set_mode(CU_BRM_VERBOSE);
	CU_basic_run_tests();
	failures = CU_get_number_of_failures();
	if (CU_get_number_of_tests_run() == 0) {
		fputs("no test was run\n", stderr);
		failures = 1;
	}
	if (failures)
		CU_basic_show_failures(CU_get_failure_list());
	tell_skipped(all, only);
	CU_cleanup_registry();
	putchar('\n');
	return failures ? 1 : 0;
}
