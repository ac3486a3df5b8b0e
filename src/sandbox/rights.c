#include "sandbox/rights.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"
#include "oci/bundle.h"

/* proc(5): thousandths of all memory, added to what a process takes. */
#define SCORE "/proc/self/oom_score_adj"
#define SCORE_MIN (-1000)
#define SCORE_MAX 1000
#define OUTLIVES 100

static struct {
	uint64_t bound, idle;
	bool in_use;
} rights;

static int set_all(uint64_t permitted, uint64_t effective)
{
	struct __user_cap_header_struct header = {
		_LINUX_CAPABILITY_VERSION_3, 0};
	struct __user_cap_data_struct data[2] = {{0}};

	for (int i = 0; i < 2; i++) {
		data[i].permitted = (uint32_t)(permitted >> 32 * i);
		data[i].effective = (uint32_t)(effective >> 32 * i);
	}
	return (int)syscall(SYS_capset, &header, data);
}

static uint64_t permitted_now(void)
{
	struct __user_cap_header_struct header = {
		_LINUX_CAPABILITY_VERSION_3, 0};
	struct __user_cap_data_struct data[2] = {{0}};

	syscall(SYS_capget, &header, data);
	return (uint64_t)data[1].permitted << 32 | data[0].permitted;
}

int th_rights_bound(uint64_t keep, bool no_new, struct th_error *err)
{
	const uint64_t have = permitted_now();

	/* The bounding set first: dropping from it takes CAP_SETPCAP. Who has
	 * none gets none by it. */
	for (int i = 0; have && th_capability_name(i); i++) {
		if (!(keep & (uint64_t)1 << i) &&
			prctl(PR_CAPBSET_DROP, i, 0, 0, 0) && errno != EINVAL)
			goto fail;
	}
	keep &= have;
	if (set_all(keep, keep) ||
		(no_new && prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)))
		goto fail;
	rights.bound = rights.idle = keep;
	return 0;
fail:
	return th_fail_sys(
		err, TH_FAILED, errno, "cannot give up capabilities");
}

void th_rights_lower(uint64_t idle)
{
	rights.idle = idle & rights.bound;
	rights.in_use = true;
	th_rights_rest();
}

void th_rights_raise(void)
{
	if (rights.in_use)
		set_all(rights.bound, rights.bound);
}

void th_rights_drop(void)
{
	set_all(0, 0);
}

void th_rights_rest(void)
{
	if (rights.in_use)
		set_all(rights.bound, rights.idle);
}

int th_rights_outlive(void)
{
	struct th_error ignored = {0}; /* it stays */
	struct th_buf text;
	char lower[16];
	int before = 0, fd, len;

	th_buf_init(&text, 64);
	if (th_file_read(AT_FDCWD, SCORE, &text, &ignored) == 1)
		before = atoi(text.data);
	th_buf_release(&text);
	len = snprintf(lower, sizeof(lower), "%d",
		before - OUTLIVES < SCORE_MIN ? SCORE_MIN : before - OUTLIVES);
	fd = open(SCORE, O_WRONLY | O_CLOEXEC);
	if (fd < 0 || write(fd, lower, (size_t)len) != len)
		before += before + OUTLIVES > SCORE_MAX ? 0 : OUTLIVES;
	th_close(&fd);
	return before;
}
