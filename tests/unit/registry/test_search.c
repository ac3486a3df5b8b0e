#include "registry/search.h"

#include "base/distance.h"
#include "unit/unit.h"

static void names_are_ranked(void)
{
	static const struct {
		const char *path, *term;
		int rank;
	} cases[] = {{"selwick/gauge", "gauge", 0},
		{"selwick/gauge", "selwick/gauge", 0},
		{"selwick/gauge", "GAUGE", 0}, {"selwick/gauge", "gau", 1},
		{"selwick/gauge", "wick", 2},
		{"selwick/tide-gauge", "gauge", 2},
		{"selwick/gauge", "gouge", 3}, {"selwick/gauge", "guage", 3},
		{"selwick/gauge", "selwick/guage", 3},
		{"selwick/gauge", "selwik/guage", 3},
		{"selwick/lighthouse", "lihgthuose", 3},
		{"selwick/lighthouse", "lighthose", 3},
		{"selwick/gauge", "ledger", -1}, {"selwick/gauge", "gx", -1}};

	for (size_t i = 0; i < COUNT_OF(cases); i++)
		CHECK_INT(th_search_rank(cases[i].path, cases[i].term),
			cases[i].rank);
}

static void slips_are_counted(void)
{
	CHECK_INT(th_distance("pull", "pull"), 0);
	CHECK_INT(th_distance("pul", "pull"), 1);
	CHECK_INT(th_distance("puhs", "push"), 1);
	CHECK_INT(th_distance("abcdef", "badcfe"), 3);
	CHECK_INT(th_distance("abc", ""), 3);
	CHECK_INT(th_distance("", "abc"), 3);
}

static const CU_TestInfo tests[] = {{"names are ranked", names_are_ranked},
	{"slips are counted", slips_are_counted}, CU_TEST_INFO_NULL};

const struct suite suite_search = {"search", tests};
