#include "sandbox/filter.h"

#include <ctype.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <seccomp.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"

static uint32_t action_value(enum th_call_action action, unsigned int code)
{
	switch (action) {
	case TH_CALL_KILL:
	case TH_CALL_KILL_THREAD:
		return SCMP_ACT_KILL_THREAD;
	case TH_CALL_KILL_PROCESS:
		return SCMP_ACT_KILL_PROCESS;
	case TH_CALL_TRAP:
		return SCMP_ACT_TRAP;
	case TH_CALL_ERRNO:
		return SCMP_ACT_ERRNO(code);
	case TH_CALL_TRACE:
		return SCMP_ACT_TRACE(code);
	case TH_CALL_ALLOW:
		return SCMP_ACT_ALLOW;
	case TH_CALL_LOG:
		return SCMP_ACT_LOG;
	case TH_CALL_NOTIFY:
		return SCMP_ACT_NOTIFY;
	}
	return SCMP_ACT_KILL_PROCESS;
}

static struct scmp_arg_cmp comparison(const struct th_call_argument *argument)
{
	static const enum scmp_compare operators[] = {
		[TH_CALL_NE] = SCMP_CMP_NE,
		[TH_CALL_LT] = SCMP_CMP_LT,
		[TH_CALL_LE] = SCMP_CMP_LE,
		[TH_CALL_EQ] = SCMP_CMP_EQ,
		[TH_CALL_GE] = SCMP_CMP_GE,
		[TH_CALL_GT] = SCMP_CMP_GT,
		[TH_CALL_MASKED_EQ] = SCMP_CMP_MASKED_EQ};
	struct scmp_arg_cmp result = {.arg = argument->index,
		.op = operators[argument->op],
		.datum_a = argument->value,
		.datum_b = argument->value_two};

	return result;
}

/* Conditions on one argument cannot be joined by "and" in one rule: then each
 * is a rule of its own, as the specification's readers expect. */
static bool has_twins(const struct th_call_rule *rule)
{
	unsigned int seen = 0;

	for (size_t i = 0; i < rule->argument_count; i++) {
		if (seen & 1u << rule->arguments[i].index)
			return true;
		seen |= 1u << rule->arguments[i].index;
	}
	return false;
}

static int add_call(scmp_filter_ctx filter, uint32_t action, int number,
	const struct th_call_rule *rule)
{
	struct scmp_arg_cmp conditions[16];
	unsigned int count = (unsigned int)rule->argument_count;
	int rc = 0;

	for (unsigned int i = 0; i < count; i++)
		conditions[i] = comparison(&rule->arguments[i]);
	if (!has_twins(rule))
		return seccomp_rule_add_array(
			filter, action, number, count, conditions);
	for (unsigned int i = 0; i < count && rc == 0; i++)
		rc = seccomp_rule_add_array(
			filter, action, number, 1, &conditions[i]);
	return rc;
}

static int add_rule(scmp_filter_ctx filter, const struct th_seccomp *seccomp,
	const struct th_call_rule *rule, struct th_error *err)
{
	uint32_t action = action_value(rule->action, rule->error_code);

	/* What the default does anyway is refused by the library. */
	if (action ==
		action_value(seccomp->default_action, seccomp->default_code))
		return 0;
	for (size_t i = 0; i < rule->names.count; i++) {
		int number = seccomp_syscall_resolve_name(rule->names.items[i]);
		int rc;

		if (number == __NR_SCMP_ERROR)
			continue;
		rc = add_call(filter, action, number, rule);
		if (rc == 0 || rc == -EEXIST)
			continue;
		return th_fail_sys(err, TH_NOT_POSSIBLE, -rc,
			"the rule for %.60s in linux.seccomp cannot be made",
			rule->names.items[i]);
	}
	return 0;
}

static uint32_t architecture(const char *name)
{
	char lower[32];
	size_t i;

	if (strncmp(name, "SCMP_ARCH_", 10) != 0)
		return 0;
	for (i = 0; name[10 + i] && i < sizeof(lower) - 1; i++)
		lower[i] = (char)tolower((unsigned char)name[10 + i]);
	lower[i] = '\0';
	return seccomp_arch_resolve_name(lower);
}

static int add_architectures(scmp_filter_ctx filter,
	const struct th_seccomp *seccomp, struct th_error *err)
{
	for (size_t i = 0; i < seccomp->architectures.count; i++) {
		const char *name = seccomp->architectures.items[i];
		uint32_t arch = architecture(name);
		int rc = arch ? seccomp_arch_add(filter, arch) : -EINVAL;

		/* One of another byte order cannot run here at all. */
		if (rc == 0 || rc == -EEXIST || rc == -EDOM)
			continue;
		return th_fail(err, TH_NOT_POSSIBLE,
			"linux.seccomp names the unknown architecture "
			"\"%.60s\"",
			name);
	}
	return 0;
}

static int export(scmp_filter_ctx filter, struct th_buf *program)
{
	char path[TH_FD_PATH];
	struct th_error ignored = {0};
	int fd = memfd_create("filter", MFD_CLOEXEC), rc = -1;

	if (fd >= 0 && seccomp_export_bpf(filter, fd) == 0 &&
		th_file_read(AT_FDCWD, th_fd_path(fd, "", path), program,
			&ignored) == 1)
		rc = 0;
	th_close(&fd);
	return rc;
}

int th_filter_compile(const struct th_seccomp *seccomp, struct th_buf *program,
	struct th_error *err)
{
	scmp_filter_ctx filter = seccomp_init(
		action_value(seccomp->default_action, seccomp->default_code));
	int rc = -1;

	if (!filter)
		return th_fail(err, TH_NOT_POSSIBLE,
			"linux.seccomp has a default action that this host "
			"does not have");
	/* Level 2 makes a tree: the kernel walks it for every system call when
	 * it is loaded. */
	seccomp_attr_set(filter, SCMP_FLTATR_CTL_OPTIMIZE, 2);
	seccomp_attr_set(filter, SCMP_FLTATR_ACT_BADARCH, SCMP_ACT_KILL);
	if (add_architectures(filter, seccomp, err))
		goto out;
	for (size_t i = 0; i < seccomp->rule_count; i++) {
		if (add_rule(filter, seccomp, &seccomp->rules[i], err))
			goto out;
	}
	rc = export(filter, program);
	if (rc || program->len > TH_FILTER_MAX)
		rc = th_fail(err, TH_NOT_POSSIBLE,
			"linux.seccomp has more rules than the kernel takes");
out:
	seccomp_release(filter);
	return rc;
}

int th_filter_load(const struct th_buf *program, unsigned int flags,
	bool listener, int *fd, struct th_error *err)
{
	struct sock_fprog filter = {.len = (unsigned short)(program->len /
					    sizeof(struct sock_filter)),
		.filter = (struct sock_filter *)(void *)program->data};
	long rc;

	*fd = -1;
	if (listener)
		flags |= SECCOMP_FILTER_FLAG_NEW_LISTENER;
	/* The two do not go together but with this. */
	if (listener && flags & SECCOMP_FILTER_FLAG_TSYNC)
		flags |= SECCOMP_FILTER_FLAG_TSYNC_ESRCH;
	rc = syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, flags, &filter);
	if (rc < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot load the system-call filter");
	if (listener)
		*fd = (int)rc;
	return 0;
}
