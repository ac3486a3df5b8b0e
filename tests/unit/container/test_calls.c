/* The list of system calls is whole, and the compiled filter gives each call
 * the answer that the list gives it. */
#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <linux/audit.h>
#include <linux/netlink.h>
#include <linux/seccomp.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/personality.h>
#include <sys/socket.h>

#include "base/file.h"
#include "base/sha256.h"
#include "container/calls.h"
#include "container/filter_rules.h"
#include "lib/bpf.h"
#include "lib/calls.h"
#include "oci/bundle.h"
#include "sandbox/filter.h"
#include "unit/unit.h"

static const struct {
	enum abi abi;
	uint32_t audit;
} abis[] = {{ABI_NATIVE, AUDIT_ARCH_X86_64}, {ABI_32, AUDIT_ARCH_I386}};

static struct abi_call calls[ABI_CALLS_MAX];

/* How often the call stands in the list; *group is one that has it. */
static int times_listed(const char *wanted, const struct th_call_group **group)
{
	int times = 0;

	for (size_t i = 0; i < th_call_group_count; i++) {
		const char *at = th_call_groups[i].calls;
		char name[TH_CALL_NAME];

		while (th_call_next(&at, name)) {
			if (strcmp(name, wanted) != 0)
				continue;
			times++;
			*group = &th_call_groups[i];
		}
	}
	return times;
}

static void the_list_has_every_call_once(void)
{
	const struct th_call_group *group;

	for (size_t a = 0; a < COUNT_OF(abis); a++) {
		size_t count = abi_calls(abis[a].abi, calls);

		CHECK(count > 300);
		for (size_t i = 0; i < count; i++) {
			int times = times_listed(calls[i].name, &group);

			if (times != 1)
				printf("\n    %s stands there %d times\n",
					calls[i].name, times);
			CHECK_INT(times, 1);
		}
	}
}

static bool exists(const char *name)
{
	for (size_t a = 0; a < COUNT_OF(abis); a++) {
		size_t count = abi_calls(abis[a].abi, calls);

		for (size_t i = 0; i < count; i++) {
			if (strcmp(calls[i].name, name) == 0)
				return true;
		}
	}
	return false;
}

static void the_list_has_nothing_made_up(void)
{
	for (size_t i = 0; i < th_call_group_count; i++) {
		const struct th_call_group *group = &th_call_groups[i];
		const char *at = group->calls;
		char name[TH_CALL_NAME];

		CHECK(*group->reason && *group->purpose);
		CHECK(group->answer != TH_CALLS_GRANTED ||
			th_capability_number(group->capability) >= 0);
		while (th_call_next(&at, name)) {
			if (!exists(name))
				printf("\n    no such call: %s\n", name);
			CHECK(exists(name));
		}
		CHECK_TEXT(at, "");
	}
}

/* What is compiled lies in stores under the rules' version: whoever changes the
 * rules raises RULES_VERSION (container/filter_rules.c), and then these. */
static void rules_have_a_version(void)
{
	static const struct {
		uint64_t capabilities;
		bool old_sockets;
		const char *digest;
	} known[] = {{0, false, "7130a2f28845b583"},
		{0x800405fb, false, "0ba69815bd6f9695"},
		{0x1ffffffffff, true, "cdbea7863a722dd0"}};

	for (size_t i = 0; i < COUNT_OF(known); i++) {
		json_t *rules = th_filter_rules(
			known[i].capabilities, known[i].old_sockets);
		char *text = json_dumps(rules, JSON_COMPACT);
		unsigned char digest[32];
		char hex[17];

		th_sha256(text, strlen(text), digest);
		for (size_t k = 0; k < 8; k++)
			snprintf(hex + 2 * k, 3, "%02x", digest[k]);
		CHECK_TEXT(hex, known[i].digest);
		free(text);
		json_decref(rules);
	}
}

/* ---- what the compiled filter answers ---- */

static struct th_buf program;

static void compile(uint64_t capabilities)
{
	json_t *part = json_pack(
		"{s:o}", "seccomp", th_filter_rules(capabilities, false));
	struct th_seccomp seccomp = {0};
	struct th_error err = {0};

	th_buf_init(&program, TH_FILTER_MAX);
	CHECK_INT(th_seccomp_parse(part, &seccomp, &err), 1);
	CHECK_INT(th_filter_compile(&seccomp, &program, &err), 0);
	CHECK(program.len > 0);
	th_seccomp_release(&seccomp);
	json_decref(part);
}

/* 0 where the call is allowed, else the errno. */
static int answer_of(size_t abi, int number, uint64_t one, uint64_t three)
{
	struct seccomp_data data = {.nr = number,
		.arch = abis[abi].audit,
		.args = {one, 0, three, 0, 0, 0}};
	uint32_t result = bpf_run(&program, &data);

	if (result == SECCOMP_RET_ALLOW)
		return 0;
	CHECK_INT(result & SECCOMP_RET_ACTION_FULL, SECCOMP_RET_ERRNO);
	return (int)(result & SECCOMP_RET_DATA);
}

static int expected(const struct th_call_group *group, uint64_t capabilities)
{
	switch (group->answer) {
	case TH_CALLS_ALLOWED:
		return 0;
	case TH_CALLS_GRANTED:
		return capabilities >> th_capability_number(group->capability) &
				1
			? 0
			: EPERM;
	case TH_CALLS_REFUSED:
		return EPERM;
	case TH_CALLS_ABSENT:
	case TH_CALLS_EXAMINED:
		break;
	}
	return ENOSYS;
}

static void check_all(uint64_t capabilities)
{
	const struct th_call_group *group = NULL;
	bool all = capabilities & (uint64_t)1 << 21; /* SYS_ADMIN */

	compile(capabilities);
	for (size_t a = 0; a < COUNT_OF(abis); a++) {
		size_t count = abi_calls(abis[a].abi, calls);

		for (size_t i = 0; i < count; i++) {
			int want, got;

			times_listed(calls[i].name, &group);
			if (group->answer == TH_CALLS_EXAMINED)
				continue;
			want = expected(group, capabilities);
			if (all && strcmp(calls[i].name, "clone3") == 0)
				want = 0;
			got = answer_of(a, calls[i].number, 0, 0);
			if (got != want)
				printf("\n    %s (%d): %s\n", calls[i].name,
					calls[i].number, strerror(got));
			CHECK_INT(got, want);
		}
		CHECK_INT(answer_of(a, 1999, 0, 0), ENOSYS);
		CHECK_INT(answer_of(a, -1, 0, 0), ENOSYS);
		/* x32: the native ABI's numbers with a bit of their own. */
		CHECK_INT(answer_of(0, 0x40000000 | 39, 0, 0), ENOSYS);
	}
	th_buf_release(&program);
}

static void each_call_gets_its_answer(void)
{
	/* None, the usual ten, each alone, all. */
	check_all(0);
	check_all(0x0004000000040db);
	for (int bit = 0; th_capability_name(bit); bit++)
		check_all((uint64_t)1 << bit);
	check_all(~(uint64_t)0);
}

struct argument_case {
	const char *call;
	uint64_t one, three;
	int want; /* without capabilities */
	const char *capability; /* with this one it is allowed; or NULL */
};

static const struct argument_case argument_cases[] = {
	/* fork, vfork, a thread of the C library */
	{"clone", 17, 0, 0, NULL}, {"clone", 0x4111, 0, 0, NULL},
	{"clone", 0x3d0f00, 0, 0, NULL},
	{"clone", CLONE_NEWUSER | 17, 0, EPERM, "CAP_SYS_ADMIN"},
	{"clone", CLONE_NEWNS, 0, EPERM, "CAP_SYS_ADMIN"},
	{"clone", CLONE_NEWPID | CLONE_NEWNET, 0, EPERM, "CAP_SYS_ADMIN"},
	{"clone", CLONE_NEWCGROUP, 0, EPERM, "CAP_SYS_ADMIN"},
	{"unshare", CLONE_FS, 0, 0, NULL},
	{"unshare", CLONE_FILES | CLONE_SYSVSEM, 0, 0, NULL},
	{"unshare", CLONE_FS | CLONE_NEWNS, 0, EPERM, "CAP_SYS_ADMIN"},
	{"unshare", CLONE_NEWUSER, 0, EPERM, "CAP_SYS_ADMIN"},
	{"unshare", CLONE_NEWTIME, 0, EPERM, "CAP_SYS_ADMIN"},
	{"unshare", CLONE_NEWIPC | CLONE_NEWUTS, 0, EPERM, "CAP_SYS_ADMIN"},
	{"socket", AF_UNIX, 0, 0, NULL}, {"socket", AF_INET, 0, 0, NULL},
	{"socket", AF_INET6, 58, 0, NULL},
	{"socket", AF_NETLINK, NETLINK_ROUTE, 0, NULL},
	{"socket", AF_NETLINK, NETLINK_SOCK_DIAG, 0, NULL},
	{"socket", AF_NETLINK, NETLINK_AUDIT, EPROTONOSUPPORT, "CAP_NET_ADMIN"},
	{"socket", AF_NETLINK, NETLINK_USERSOCK, EPROTONOSUPPORT,
		"CAP_NET_ADMIN"},
	{"socket", AF_NETLINK, NETLINK_NETFILTER, EPROTONOSUPPORT,
		"CAP_NET_ADMIN"},
	{"socket", AF_NETLINK, 0x100000000, EPROTONOSUPPORT, "CAP_NET_ADMIN"},
	{"socket", AF_PACKET, 0, EPERM, "CAP_NET_RAW"},
	{"socket", AF_VSOCK, 0, EAFNOSUPPORT, NULL},
	{"socket", AF_ALG, 0, EAFNOSUPPORT, NULL},
	{"socket", AF_KEY, 0, EAFNOSUPPORT, NULL},
	{"socket", AF_AX25, 0, EAFNOSUPPORT, NULL},
	{"socket", 0, 0, EAFNOSUPPORT, NULL},
	{"socket", (uint64_t)-1, 0, EAFNOSUPPORT, NULL},
	{"socket", 0x100000000 | AF_ALG, 0, EAFNOSUPPORT, NULL},
	{"personality", 0, 0, 0, NULL},
	{"personality", PER_LINUX32, 0, 0, NULL},
	{"personality", 0xffffffff, 0, 0, NULL},
	{"personality", (uint64_t)-1, 0, 0, NULL},
	{"personality", PER_LINUX32 | ADDR_LIMIT_3GB, 0, 0, NULL},
	{"personality", ADDR_NO_RANDOMIZE, 0, 0, NULL},
	{"personality", READ_IMPLIES_EXEC, 0, ENOSYS, NULL},
	{"personality", MMAP_PAGE_ZERO | PER_LINUX32, 0, ENOSYS, NULL},
	{"personality", PER_SVR4, 0, ENOSYS, NULL},
	/* What the kernel cuts off changes nothing. */
	{"personality", 0x500000000 | READ_IMPLIES_EXEC, 0, ENOSYS, NULL},
	{"personality", 0x500000000 | PER_LINUX32, 0, 0, NULL}};

static void check_arguments(uint64_t capabilities)
{
	compile(capabilities);
	for (size_t a = 0; a < COUNT_OF(abis); a++) {
		size_t count = abi_calls(abis[a].abi, calls);

		for (size_t i = 0; i < COUNT_OF(argument_cases); i++) {
			const struct argument_case *one = &argument_cases[i];
			int want = one->want, got, number = -2;

			/* Registers of the 32-bit ABI hold no more. */
			if (a == 1 && (one->one | one->three) >> 32)
				continue;
			for (size_t k = 0; k < count; k++) {
				if (strcmp(calls[k].name, one->call) == 0)
					number = calls[k].number;
			}
			if (one->capability && capabilities)
				want = 0;
			got = answer_of(a, number, one->one, one->three);
			if (got != want)
				printf("\n    abi %zu %s %#llx: %s\n", a,
					one->call, (unsigned long long)one->one,
					strerror(got));
			CHECK_INT(got, want);
		}
	}
	th_buf_release(&program);
}

static void arguments_are_looked_into(void)
{
	check_arguments(0);
	check_arguments(~(uint64_t)0);
}

static void the_docs_show_the_list(void)
{
	struct th_buf table, file;
	struct th_error err = {0};

	th_buf_init(&table, 1 << 20);
	th_buf_init(&file, 1 << 20);
	call_table_write(&table);
	CHECK_INT(th_file_read(AT_FDCWD, "docs/safety.md", &file, &err), 1);
	/* "make docs" puts it there. */
	CHECK(file.data && strstr(file.data, table.data));
	th_buf_release(&table);
	th_buf_release(&file);
}

static const CU_TestInfo tests[] = {
	{"rules have a version", rules_have_a_version},
	{"the list has every call once", the_list_has_every_call_once},
	{"the list has nothing made up", the_list_has_nothing_made_up},
	{"each call gets its answer", each_call_gets_its_answer},
	{"arguments are looked into", arguments_are_looked_into},
	{"the docs show the list", the_docs_show_the_list}, CU_TEST_INFO_NULL};

const struct suite suite_calls = {"calls", tests};
