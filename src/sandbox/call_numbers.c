#include "sandbox/call_numbers.h"

#include <ctype.h>
#include <seccomp.h>
#include <stddef.h>
#include <string.h>

#include "base/choice.h"

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

struct number {
	const char *name;
	int number;
};

/* Newer than the libraries in use. From 424 on a call has the same number on
 * every architecture. */
static const struct number newer[] = {{"cachestat", 451}, {"fchmodat2", 452},
	{"map_shadow_stack", 453}, {"futex_wake", 454}, {"futex_wait", 455},
	{"futex_requeue", 456}, {"statmount", 457}, {"listmount", 458},
	{"lsm_get_self_attr", 459}, {"lsm_set_self_attr", 460},
	{"lsm_list_modules", 461}, {"mseal", 462}, {"setxattrat", 463},
	{"getxattrat", 464}, {"listxattrat", 465}, {"removexattrat", 466},
	{"open_tree_attr", 467}, {"file_getattr", 468}, {"file_setattr", 469}};

static const struct number newer_x86_64[] = {
	{"uretprobe", 335}, {"uprobe", 336}};

/* For these libseccomp gives made-up numbers that mean the direct call and
 * socketcall or ipc together; who permits socket has not permitted socketcall,
 * where no filter can see the family. */
static const struct number direct_x86[] = {{"socket", 359}, {"socketpair", 360},
	{"recvmmsg", 337}, {"sendmmsg", 345}, {"bind", 361}, {"connect", 362},
	{"listen", 363}, {"accept4", 364}, {"getsockopt", 365},
	{"setsockopt", 366}, {"getsockname", 367}, {"getpeername", 368},
	{"sendto", 369}, {"sendmsg", 370}, {"recvfrom", 371}, {"recvmsg", 372},
	{"shutdown", 373}, {"semget", 393}, {"semctl", 394}, {"shmget", 395},
	{"shmctl", 396}, {"shmat", 397}, {"shmdt", 398}, {"msgget", 399},
	{"msgsnd", 400}, {"msgrcv", 401}, {"msgctl", 402}};

uint32_t th_architecture_native(void)
{
	return seccomp_arch_native();
}

uint32_t th_architecture_find(const char *name)
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

bool th_architecture_is_foreign(const char *name)
{
	/* In the specification, and not in every libseccomp. */
	static const char *const names[] = {"SCMP_ARCH_LOONGARCH64",
		"SCMP_ARCH_M68K", "SCMP_ARCH_SH", "SCMP_ARCH_SHEB",
		"SCMP_ARCH_RISCV64", "SCMP_ARCH_PARISC", "SCMP_ARCH_PARISC64"};

	return th_choice(name, names, sizeof(names) / sizeof(*names)) >= 0;
}

uint32_t th_architecture_audit(uint32_t architecture)
{
	return architecture == SCMP_ARCH_X32 ? SCMP_ARCH_X86_64 : architecture;
}

static int64_t find(const struct number *list, size_t count, const char *name)
{
	for (size_t i = 0; i < count; i++) {
		if (strcmp(list[i].name, name) == 0)
			return list[i].number;
	}
	return -1;
}

int64_t th_call_number(uint32_t architecture, const char *name)
{
	int64_t number = seccomp_syscall_resolve_name_arch(architecture, name);

	/* Negative: unknown, or known and not of this architecture. */
	if (number < 0 && architecture == SCMP_ARCH_X86)
		number = find(direct_x86, COUNT(direct_x86), name);
	if (number < 0 && architecture == SCMP_ARCH_X86_64)
		number = find(newer_x86_64, COUNT(newer_x86_64), name);
	if (number < 0)
		number = find(newer, COUNT(newer), name);
	/* x32's have their bit only when they come from the library. */
	return number >= 0 && architecture == SCMP_ARCH_X32
		? number | TH_CALL_X32
		: number;
}
