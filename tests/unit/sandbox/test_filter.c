/* The compiler of system-call filters says the same as libseccomp's, where that
 * one is clear, for rules made by chance. */
#include <errno.h>
#include <fcntl.h>
#include <linux/audit.h>
#include <seccomp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#include "base/architecture.h"
#include "base/file.h"
#include "lib/bpf.h"
#include "sandbox/filter.h"
#include "unit/unit.h"

static unsigned int seed;

static unsigned int chance(unsigned int bound)
{
	seed = seed * 1103515245 + 12345;
	return (seed >> 16) % bound;
}

/* Few values, so that comparisons meet their edges; some need both words. */
static uint64_t some_value(void)
{
	static const uint64_t values[] = {0, 1, 2, 3, 0x7fffffff, 0x80000000,
		0xffffffff, 0x100000000, 0x100000001, 0x200000000,
		0xffffffff00000000, UINT64_MAX - 1, UINT64_MAX};

	return values[chance(COUNT_OF(values))];
}

static const char *const names[] = {"read", "write", "close", "personality",
	"ioctl", "prctl", "mmap", "clone", "futex", "kexec_load", "mount",
	"pidfd_open", "statx"};

/* One rule for each call: with several, libseccomp has an order of its own. */
static void some_rules(struct th_seccomp *seccomp)
{
	static const enum th_call_action actions[] = {TH_CALL_ALLOW,
		TH_CALL_ERRNO, TH_CALL_KILL_PROCESS, TH_CALL_TRAP, TH_CALL_LOG};

	memset(seccomp, 0, sizeof(*seccomp));
	seccomp->default_action = TH_CALL_ERRNO;
	seccomp->default_code = ENOSYS;
	seccomp->rules = calloc(COUNT_OF(names), sizeof(*seccomp->rules));
	for (size_t i = 0; i < COUNT_OF(names); i++) {
		struct th_call_rule *rule =
			&seccomp->rules[seccomp->rule_count];

		if (chance(4) == 0)
			continue;
		seccomp->rule_count++;
		CHECK_INT(th_strings_add(&rule->names, names[i]), 0);
		rule->action = actions[chance(COUNT_OF(actions))];
		rule->error_code = 1 + chance(100);
		rule->argument_count = chance(4);
		for (size_t k = 0; k < rule->argument_count; k++) {
			struct th_call_argument *argument = &rule->arguments[k];

			argument->index = (unsigned int)k + chance(3);
			if (k && argument->index <= argument[-1].index)
				argument->index = argument[-1].index + 1;
			argument->op = (enum th_call_operator)chance(7);
			argument->value = some_value();
			argument->value_two = some_value();
			if (argument->op == TH_CALL_MASKED_EQ)
				argument->value_two &= argument->value;
		}
	}
}

static uint32_t library_action(const struct th_call_rule *rule)
{
	switch (rule->action) {
	case TH_CALL_ALLOW:
		return SCMP_ACT_ALLOW;
	case TH_CALL_ERRNO:
		return SCMP_ACT_ERRNO(rule->error_code);
	case TH_CALL_TRAP:
		return SCMP_ACT_TRAP;
	case TH_CALL_LOG:
		return SCMP_ACT_LOG;
	default:
		return SCMP_ACT_KILL_PROCESS;
	}
}

static void compile_by_library(
	const struct th_seccomp *seccomp, struct th_buf *program)
{
	static const enum scmp_compare ops[] = {[TH_CALL_NE] = SCMP_CMP_NE,
		[TH_CALL_LT] = SCMP_CMP_LT,
		[TH_CALL_LE] = SCMP_CMP_LE,
		[TH_CALL_EQ] = SCMP_CMP_EQ,
		[TH_CALL_GE] = SCMP_CMP_GE,
		[TH_CALL_GT] = SCMP_CMP_GT,
		[TH_CALL_MASKED_EQ] = SCMP_CMP_MASKED_EQ};
	scmp_filter_ctx filter = seccomp_init(SCMP_ACT_ERRNO(ENOSYS));
	int fd = memfd_create("filter", MFD_CLOEXEC);
	struct th_error err = {0};
	char path[TH_FD_PATH];

	for (size_t i = 0; i < seccomp->rule_count; i++) {
		const struct th_call_rule *rule = &seccomp->rules[i];
		struct scmp_arg_cmp list[6];

		for (size_t k = 0; k < rule->argument_count; k++) {
			list[k].arg = rule->arguments[k].index;
			list[k].op = ops[rule->arguments[k].op];
			list[k].datum_a = rule->arguments[k].value;
			list[k].datum_b = rule->arguments[k].value_two;
		}
		CHECK_INT(seccomp_rule_add_array(filter, library_action(rule),
				  seccomp_syscall_resolve_name(
					  rule->names.items[0]),
				  (unsigned int)rule->argument_count, list),
			0);
	}
	th_buf_init(program, TH_FILTER_MAX);
	CHECK_INT(seccomp_export_bpf(filter, fd), 0);
	CHECK_INT(
		th_file_read(AT_FDCWD, th_fd_path(fd, "", path), program, &err),
		1);
	th_close(&fd);
	seccomp_release(filter);
}

static void compare(const struct th_buf *ours, const struct th_buf *theirs)
{
	for (int i = 0; i < 2000; i++) {
		struct seccomp_data data = {.arch = TH_AUDIT_ARCH};

		data.nr = chance(8) == 0
			? (int)chance(500)
			: seccomp_syscall_resolve_name(
				  names[chance(COUNT_OF(names))]);
		for (int k = 0; k < 6; k++)
			data.args[k] = some_value();
		CHECK_INT(bpf_run(ours, &data), bpf_run(theirs, &data));
	}
}

static void any_rules_mean_the_same(void)
{
	for (unsigned int round = 1; round <= 60; round++) {
		struct th_seccomp seccomp;
		struct th_buf ours, theirs;
		struct th_error err = {0};

		seed = round * 7919;
		some_rules(&seccomp);
		th_buf_init(&ours, TH_FILTER_MAX);
		CHECK_INT(th_filter_compile(&seccomp, &ours, &err), 0);
		compile_by_library(&seccomp, &theirs);
		compare(&ours, &theirs);
		th_buf_release(&ours);
		th_buf_release(&theirs);
		th_seccomp_release(&seccomp);
	}
}

/* Conditions come before what is said of the call as a whole, whichever is
 * written first; of two that hold the first one counts. */
static void the_first_condition_counts(void)
{
	struct th_seccomp seccomp = {.default_action = TH_CALL_ALLOW};
	struct th_call_rule rules[3] = {{{0}, TH_CALL_ERRNO, 1, {{0}}, 0},
		{{0}, TH_CALL_ERRNO, 2, {{1, TH_CALL_GE, 5, 0}}, 1},
		{{0}, TH_CALL_ERRNO, 3, {{1, TH_CALL_GE, 3, 0}}, 1}};
	static const int wanted[] = {1, 1, 1, 3, 3, 2, 2};
	struct th_error err = {0};
	struct th_buf program;

	for (size_t i = 0; i < 3; i++)
		CHECK_INT(th_strings_add(&rules[i].names, "ioctl"), 0);
	seccomp.rules = rules;
	seccomp.rule_count = 3;
	th_buf_init(&program, TH_FILTER_MAX);
	CHECK_INT(th_filter_compile(&seccomp, &program, &err), 0);
	for (size_t i = 0; i < COUNT_OF(wanted); i++) {
		struct seccomp_data data = {.arch = TH_AUDIT_ARCH,
			.nr = SCMP_SYS(ioctl),
			.args = {0, i}};

		CHECK_INT(
			bpf_run(&program, &data) & SECCOMP_RET_DATA, wanted[i]);
	}
	th_buf_release(&program);
	for (size_t i = 0; i < 3; i++)
		th_strings_release(&rules[i].names);
}

static void too_many_rules_are_told(void)
{
	struct th_seccomp seccomp = {.default_action = TH_CALL_ALLOW};
	struct th_call_rule *rules = calloc(600, sizeof(*rules));
	struct th_error err = {0};
	struct th_buf program;

	for (size_t i = 0; i < 600; i++) {
		CHECK_INT(th_strings_add(&rules[i].names, "ioctl"), 0);
		rules[i].action = TH_CALL_ERRNO;
		rules[i].argument_count = 3;
		for (unsigned int k = 0; k < 3; k++) {
			rules[i].arguments[k].index = k;
			rules[i].arguments[k].op = TH_CALL_EQ;
			rules[i].arguments[k].value = i;
		}
	}
	seccomp.rules = rules;
	seccomp.rule_count = 600;
	th_buf_init(&program, TH_FILTER_MAX);
	CHECK_INT(th_filter_compile(&seccomp, &program, &err), -1);
	CHECK(strstr(err.msg, "more rules than the kernel takes") != NULL);
	th_buf_release(&program);
	for (size_t i = 0; i < 600; i++)
		th_strings_release(&rules[i].names);
	free(rules);
}

static const CU_TestInfo tests[] = {
	{"any rules mean the same", any_rules_mean_the_same},
	{"the first condition counts", the_first_condition_counts},
	{"too many rules are told", too_many_rules_are_told},
	CU_TEST_INFO_NULL};

const struct suite suite_filter = {"filter", tests};
