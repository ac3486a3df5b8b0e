/* What the keeper gives up before its container's program runs: while the
 * container's process, its child, sets itself up.
 *
 * The programs of sessions and of later runs are its children as well: what
 * bounds the keeper bounds them too, so that the bound is whatever either of
 * the two needs. Beyond it are the calls and capabilities that take over a
 * host. Between two works (a start, the end,
 * a session, a request) nothing is effective but the capability to signal the
 * program. */
#include <errno.h>
#include <linux/capability.h>
#include <string.h>

#include "container/calls.h"
#include "keeper/keeper.h"
#include "sandbox/filter.h"
#include "sandbox/rights.h"

#define BIT(capability) ((uint64_t)1 << (capability))
/* To make and enter a container again: namespaces, mounts and their owners,
 * device nodes, identities, limits, networks. */
#define NEEDED                                                                 \
	(BIT(CAP_CHOWN) | BIT(CAP_DAC_OVERRIDE) | BIT(CAP_FOWNER) |            \
		BIT(CAP_FSETID) | BIT(CAP_KILL) | BIT(CAP_SETGID) |            \
		BIT(CAP_SETUID) | BIT(CAP_SETPCAP) | BIT(CAP_NET_ADMIN) |      \
		BIT(CAP_SYS_CHROOT) | BIT(CAP_SYS_PTRACE) |                    \
		BIT(CAP_SYS_ADMIN) | BIT(CAP_SYS_RESOURCE) |                   \
		BIT(CAP_SYS_NICE) | BIT(CAP_MKNOD) | BIT(CAP_SETFCAP))
#define IDLE BIT(CAP_KILL)

/* Of the calls that a container has by a capability only. */
static const char *const own_calls[] = {"setns", "mount", "umount2",
	"pivot_root", "fsopen", "fsconfig", "fsmount", "open_tree",
	"move_mount", "mount_setattr", "sethostname", "setdomainname", "bpf",
	"pidfd_getfd", NULL};
/* Of those that it has not at all: the rest has no code, or does no harm, and
 * would only make the filter longer. */
static const char *const harmful[] = {"io_uring_setup", "io_uring_enter",
	"io_uring_register", "add_key", "request_key", "keyctl", "userfaultfd",
	"vmsplice", "remap_file_pages", "memfd_secret", "modify_ldt", NULL};

static bool is_in(const char *const *list, const char *name)
{
	for (; *list; list++) {
		if (strcmp(*list, name) == 0)
			return true;
	}
	return false;
}

static bool is_refused(const struct th_call_group *group, const char *name,
	uint64_t capabilities)
{
	switch (group->answer) {
	case TH_CALLS_GRANTED:
		return !(capabilities &
			       BIT(th_capability_number(group->capability))) &&
			!is_in(own_calls, name);
	case TH_CALLS_REFUSED:
		return true;
	case TH_CALLS_ABSENT:
		return is_in(harmful, name);
	default:
		return false;
	}
}

static int add_refused(
	struct th_call_rule *rule, uint64_t capabilities, struct th_error *err)
{
	for (size_t i = 0; i < th_call_group_count; i++) {
		const struct th_call_group *group = &th_call_groups[i];
		const char *at = group->calls;
		char name[TH_CALL_NAME];

		while (th_call_next(&at, name)) {
			if (is_refused(group, name, capabilities) &&
				th_strings_add(&rule->names, name))
				return th_fail_memory(err);
		}
	}
	return 0;
}

static int restrict_calls(uint64_t capabilities, struct th_error *err)
{
	static const char *const abis[] = {"SCMP_ARCH_X86_64", "SCMP_ARCH_X86"};
	struct th_call_rule rule = {
		.action = TH_CALL_ERRNO, .error_code = EPERM};
	struct th_seccomp seccomp = {.given = true,
		.default_action = TH_CALL_ALLOW,
		.rules = &rule,
		.rule_count = 1};
	struct th_buf program;
	int none, rc = 0;

	th_buf_init(&program, TH_FILTER_MAX);
	for (size_t i = 0; i < 2; i++)
		rc |= th_strings_add(&seccomp.architectures, abis[i]);
	rc = rc ? th_fail_memory(err) : add_refused(&rule, capabilities, err);
	if (rc == 0)
		rc = th_filter_compile(&seccomp, &program, err);
	if (rc == 0)
		rc = th_filter_load(&program, 0, false, &none, err);
	th_strings_release(&seccomp.architectures);
	th_strings_release(&rule.names);
	th_buf_release(&program);
	return rc;
}

int keeper_confine(struct keeper *keeper, struct th_error *err)
{
	const struct th_process *process = &keeper->bundle.process;

	if (keeper->confined)
		return 0;
	keeper->confined = true;
	if (th_rights_bound(NEEDED | process->bounding,
		    process->no_new_privileges, err))
		return -1;
	/* A container without a filter may make all calls, and with it we. */
	if (!keeper->bundle.seccomp.given)
		return 0;
	return restrict_calls(process->bounding, err);
}

void keeper_rest(void)
{
	th_rights_lower(IDLE);
}
