/* A suite of tests: a table of names and functions. */
#ifndef TESTS_SUITE_H
#define TESTS_SUITE_H

#include <CUnit/Basic.h>
#include <stdbool.h>

struct suite {
	const char *name;
	const CU_TestInfo *tests; /* ended by CU_TEST_INFO_NULL */
};

/* Runs the suites (all, or the one that is named) and returns the exit code:
 * 0 only where every check held and at least one was made. */
/* Tests that are left out, each with its reason; ended by a NULL suite. They
 * are named at the end. */
struct skip {
	const char *suite;
	const char *test; /* NULL: all of the suite */
	const char *reason;
};
extern const struct skip *suites_skipped;

int suites_run(const struct suite *const *suites, const char *only,
	void (*before)(void), void (*after)(void));

#define CHECK(condition) CU_ASSERT(condition)
#define CHECK_INT(actual, expected)                                            \
	CU_ASSERT(is_int((long long)(actual), (long long)(expected)))
#define CHECK_TEXT(actual, expected) CU_ASSERT(is_text(actual, expected))
/* True where both are the same; prints them otherwise: what fails once in a
 * hundred runs must say all of it. */
bool is_int(long long actual, long long expected);
bool is_text(const char *actual, const char *expected);
#define COUNT_OF(list) (sizeof(list) / sizeof(*(list)))

#endif
