#include "lib/suite.h"

#include <stdio.h>
#include <string.h>

int suites_run(const struct suite *const *suites, const char *only,
	void (*before)(void), void (*after)(void))
{
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
	CU_cleanup_registry();
	putchar('\n');
	return failures ? 1 : 0;
}
