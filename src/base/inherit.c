#include "base/inherit.h"
#include "base/libc.h"

#include <signal.h>
#include <stddef.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

/* glibc keeps two signals to itself and does not let them be set. */
#define KERNEL_SIGNALS 64

void th_inherit_no_signals(void)
{
	/* struct sigaction of the kernel: all zeros are SIG_DFL. */
	static const unsigned long plain[8];
	sigset_t none;

	for (int i = 1; i <= KERNEL_SIGNALS; i++)
		syscall(SYS_rt_sigaction, i, plain, NULL,
			(size_t)(KERNEL_SIGNALS / 8));
	sigemptyset(&none);
	sigprocmask(SIG_SETMASK, &none, NULL);
}

static void raise_limit(int resource)
{
	const struct rlimit all = {
		.rlim_cur = RLIM_INFINITY, .rlim_max = RLIM_INFINITY};
	struct rlimit own;

	if (setrlimit((th_rlimit_kind)resource, &all) == 0 ||
		getrlimit((th_rlimit_kind)resource, &own))
		return;
	own.rlim_cur = own.rlim_max;
	setrlimit((th_rlimit_kind)resource, &own);
}

void th_inherit_no_limits(void)
{
	static const int resources[] = {RLIMIT_CPU, RLIMIT_FSIZE, RLIMIT_DATA,
		RLIMIT_AS, RLIMIT_RSS, RLIMIT_LOCKS, RLIMIT_RTTIME};

	for (size_t i = 0; i < sizeof(resources) / sizeof(*resources); i++)
		raise_limit(resources[i]);
	setpriority(PRIO_PROCESS, 0, 0);
}
