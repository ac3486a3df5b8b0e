#include "keeper/shrink.h"

#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "unit/unit.h"

/* What is resident of the mapping that holds the address, in KiB. */
static long resident(const void *address)
{
	FILE *maps = fopen("/proc/self/smaps", "re");
	unsigned long begin, end;
	char line[512];
	bool ours = false;
	long kib = -1;

	while (maps && kib < 0 && fgets(line, sizeof(line), maps)) {
		if (sscanf(line, "%lx-%lx ", &begin, &end) == 2)
			ours = (uintptr_t)address >= begin &&
				(uintptr_t)address < end;
		else if (ours)
			sscanf(line, "Rss: %ld kB", &kib);
	}
	if (maps)
		fclose(maps);
	return kib;
}

/* Code that is not run meanwhile goes, and comes back; what was written
 * stays. */
static void what_is_in_use_stays(void)
{
	static const char constant[] = "high water at the north mole";
	static char written[8192];
	char local[64], *heap = malloc(100000);
	void (*self)(void) = what_is_in_use_stays;
	const void *code;
	long before;

	memcpy(&code, &self, sizeof(code));
	memset(written, 'w', sizeof(written));
	snprintf(local, sizeof(local), "%s", constant);
	CHECK(heap != NULL);
	if (heap)
		memset(heap, 'h', 100000);
	before = resident(code);
	shrink();
	CHECK(resident(code) < before);
	CHECK_TEXT(local, "high water at the north mole");
	CHECK_TEXT(constant, local);
	for (size_t i = 0; i < sizeof(written); i++)
		CHECK(written[i] == 'w');
	for (size_t i = 0; heap && i < 100000; i++)
		CHECK(heap[i] == 'h');
	free(heap);
}

static const CU_TestInfo tests[] = {
	{"what is in use stays", what_is_in_use_stays}, CU_TEST_INFO_NULL};

const struct suite suite_shrink = {"shrink", tests};
