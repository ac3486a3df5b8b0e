#include "sandbox/allowance.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "sandbox/cgroup_parts.h"
#include "sandbox/hierarchy.h"

#define PERIOD_US 100000

static void take(int64_t *least, long long found)
{
	/* Version 1 writes a number near the largest one for "none". */
	if (found >= 0 && found < INT64_MAX / 2 &&
		(*least < 0 || found < *least))
		*least = found;
}

/* "50000 100000", or "max 100000" (cgroup-v2.rst). */
static void take_cpu(const char *folder, int64_t *least)
{
	struct th_error ignored = {0}; /* then nothing is limited by it */
	char path[FOLDER_MAX + 16];
	long long quota, period;
	struct th_buf text;

	snprintf(path, sizeof(path), "%s/cpu.max", folder);
	th_buf_init(&text, 256);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1 &&
		sscanf(text.data, "%lld %lld", &quota, &period) == 2 &&
		period > 0)
		take(least, quota * PERIOD_US / period);
	th_buf_release(&text);
}

static void take_group(const struct hierarchy *one, const char *folder,
	struct th_allowance *allowance)
{
	long long quota, period;

	take(&allowance->processes, group_number(folder, "pids.max", "", -1));
	if (one->v2) {
		take(&allowance->memory_bytes,
			group_number(folder, "memory.max", "", -1));
		take_cpu(folder, &allowance->cpu_us);
		return;
	}
	take(&allowance->memory_bytes,
		group_number(folder, "memory.limit_in_bytes", "", -1));
	quota = group_number(folder, "cpu.cfs_quota_us", "", -1);
	period = group_number(folder, "cpu.cfs_period_us", "", -1);
	if (quota >= 0 && period > 0)
		take(&allowance->cpu_us, quota * PERIOD_US / period);
}

void th_allowance_read(struct th_allowance *allowance)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);

	*allowance = (struct th_allowance){-1, -1, -1};
	for (size_t i = 0; i < count; i++) {
		size_t top = strlen(list[i].mount);
		char folder[FOLDER_MAX];

		snprintf(folder, sizeof(folder), "%s%s", list[i].mount,
			list[i].own);
		/* Up to the mount point, which has no limits. */
		while (strlen(folder) > top) {
			take_group(&list[i], folder, allowance);
			*strrchr(folder, '/') = '\0';
		}
	}
}
