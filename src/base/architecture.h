/* What differs between the architectures that this is made for: all of it
 * stands here. For the reaper as well, which has no C library: nothing but
 * headers. */
#ifndef TH_BASE_ARCHITECTURE_H
#define TH_BASE_ARCHITECTURE_H

#include <elf.h>
#include <linux/audit.h>

#if defined(__x86_64__)

#define TH_AUDIT_ARCH AUDIT_ARCH_X86_64
#define TH_ELF_MACHINE EM_X86_64

/* The entry of a program without a C library: calls reaper(). */
#define TH_START_REAPER                                                        \
	".globl _start\n_start:\n\txor %ebp, %ebp\n\tand $-16, %rsp\n"         \
	"\tcall reaper\n"

/* A system call as it is; the negative error on failure. */
static inline long th_call(long number, long a, long b, long c, long d)
{
	register long four __asm__("r10") = d;
	long result;

	__asm__ volatile("syscall"
			 : "=a"(result)
			 : "a"(number), "D"(a), "S"(b), "d"(c), "r"(four)
			 : "memory", "cc", "rcx", "r11");
	return result;
}

/* The levels of x86-64 (its psABI, "Micro-Architecture Levels"). */
static inline int th_architecture_level(void)
{
	if (!__builtin_cpu_supports("sse4.2"))
		return 1;
	if (!__builtin_cpu_supports("avx2") || !__builtin_cpu_supports("bmi2"))
		return 2;
	return __builtin_cpu_supports("avx512f") &&
			__builtin_cpu_supports("avx512bw")
		? 4
		: 3;
}

#elif defined(__aarch64__)

#define TH_AUDIT_ARCH AUDIT_ARCH_AARCH64
#define TH_ELF_MACHINE EM_AARCH64
#define TH_START_REAPER ".globl _start\n_start:\n\tmov x29, #0\n\tbl reaper\n"

static inline long th_call(long number, long a, long b, long c, long d)
{
	register long x8 __asm__("x8") = number;
	register long x0 __asm__("x0") = a;
	register long x1 __asm__("x1") = b;
	register long x2 __asm__("x2") = c;
	register long x3 __asm__("x3") = d;

	__asm__ volatile("svc #0"
			 : "+r"(x0)
			 : "r"(x8), "r"(x1), "r"(x2), "r"(x3)
			 : "memory", "cc");
	return x0;
}

#elif defined(__riscv) && __riscv_xlen == 64

#define TH_AUDIT_ARCH AUDIT_ARCH_RISCV64
#define TH_ELF_MACHINE EM_RISCV
#define TH_START_REAPER                                                        \
	".globl _start\n_start:\n.option push\n.option norelax\n"              \
	"\tla gp, __global_pointer$\n.option pop\n"                            \
	"\tandi sp, sp, -16\n\tcall reaper\n"

static inline long th_call(long number, long a, long b, long c, long d)
{
	register long a7 __asm__("a7") = number;
	register long a0 __asm__("a0") = a;
	register long a1 __asm__("a1") = b;
	register long a2 __asm__("a2") = c;
	register long a3 __asm__("a3") = d;

	__asm__ volatile("ecall"
			 : "+r"(a0)
			 : "r"(a7), "r"(a1), "r"(a2), "r"(a3)
			 : "memory");
	return a0;
}

#else
#error "this architecture needs a part in base/architecture.h"
#endif

#ifndef __x86_64__
/* A processor of these runs all variants that images name. */
static inline int th_architecture_level(void)
{
	return 9;
}
#endif

#endif
