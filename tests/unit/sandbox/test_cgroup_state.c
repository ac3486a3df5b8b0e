/* What is read from a control group's files. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "sandbox/cgroup.h"
#include "unit/unit.h"

/* The kernel shows those that the reader's PID namespace has no number for as
 * 0, and a signal to 0 goes to the caller's own group of processes. */
static void nobody_is_called_0(void)
{
	struct th_cgroup group = TH_CGROUP_NONE;
	struct th_error err = {0};
	const char text[] = "0\n17\n0\n4194303\n0\n";
	pid_t *pids = NULL;
	size_t count = 0;

	CHECK_INT(th_file_replace(unit_folder_fd, "cgroup.procs", text,
			  strlen(text), 0600, false, &err),
		0);
	group.fd = unit_folder_fd;
	CHECK_INT(th_cgroup_processes(&group, &pids, &count, &err), 1);
	CHECK_INT(count, 2);
	if (count == 2) {
		CHECK_INT(pids[0], 17);
		CHECK_INT(pids[1], 4194303);
	}
	free(pids);
}

static const CU_TestInfo tests[] = {
	{"nobody is called 0", nobody_is_called_0}, CU_TEST_INFO_NULL};

const struct suite suite_cgroup_state = {"cgroup state", tests};
