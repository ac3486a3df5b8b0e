/* Many at once. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "e2e/harness.h"

#define MANY 60
#define AT_ONCE 4

/* HULL_MANY chooses another number, 500 for example. */
static int how_many(void)
{
	const char *text = getenv("HULL_MANY");

	return text ? atoi(text) : MANY;
}

static void they_come_and_go(void)
{
	int many = how_many(), next = 0;
	int64_t begin = th_clock_mono_ms(), launched, listed, stopped;
	pid_t pids[AT_ONCE];

	CODE(hull("pull selwick/base"), 0);
	while (next < many) {
		int count = 0;

		for (; count < AT_ONCE && next < many; count++)
			pids[count] = hull_start("out",
				"launch selwick/base --name c%d -- sleep "
				"100000",
				next++);
		for (int i = 0; i < count; i++)
			CHECK_INT(wait_for(pids[i]), 0);
	}
	launched = th_clock_mono_ms();
	CHECK_INT(wait_for(hull_start("list", "list -q")), 0);
	CHECK_INT(count_lines_with("list", "", ""), many);
	listed = th_clock_mono_ms();
	CODE(hull("stop --all"), 0);
	stopped = th_clock_mono_ms();
	CODE(hull("remove --all --yes"), 0);
	SAYS(hull("list --all")->out, "there are no containers");
	printf("\n    %d: launch %lld ms, list %lld ms, stop %lld ms, remove "
	       "%lld ms ...",
		many, (long long)(launched - begin),
		(long long)(listed - launched), (long long)(stopped - listed),
		(long long)(th_clock_mono_ms() - stopped));
}

static const CU_TestInfo tests[] = {
	{"they come and go", they_come_and_go}, CU_TEST_INFO_NULL};

const struct suite suite_many = {"many", tests};
