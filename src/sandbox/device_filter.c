#include "sandbox/device_filter.h"

#include <errno.h>
#include <linux/bpf.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"

/* Registers: what the program keeps. The context is three numbers (the
 * kernel's struct bpf_cgroup_dev_ctx): access in the upper and type in the
 * lower half of the first, then major and minor. */
enum { R_RESULT, R_CONTEXT, R_TYPE, R_ACCESS, R_MAJOR, R_MINOR, R_SPARE };

#define PER_RULE 8

static struct bpf_insn insn(int code, int to, int from, int offset, int value)
{
	struct bpf_insn one = {.code = (uint8_t)code,
		.dst_reg = (uint8_t)(to & 15),
		.src_reg = (uint8_t)(from & 15),
		.off = (int16_t)offset,
		.imm = value};

	return one;
}

static size_t begin(struct bpf_insn *at)
{
	size_t n = 0;

	at[n++] = insn(BPF_LDX | BPF_W | BPF_MEM, R_TYPE, R_CONTEXT, 0, 0);
	at[n++] = insn(BPF_ALU | BPF_MOV | BPF_X, R_ACCESS, R_TYPE, 0, 0);
	at[n++] = insn(BPF_ALU | BPF_AND | BPF_K, R_TYPE, 0, 0, 0xffff);
	at[n++] = insn(BPF_ALU | BPF_RSH | BPF_K, R_ACCESS, 0, 0, 16);
	at[n++] = insn(BPF_LDX | BPF_W | BPF_MEM, R_MAJOR, R_CONTEXT, 4, 0);
	at[n++] = insn(BPF_LDX | BPF_W | BPF_MEM, R_MINOR, R_CONTEXT, 8, 0);
	return n;
}

/* Skips to behind the rule where one of its conditions does not hold. */
static size_t add_rule(struct bpf_insn *at, const struct th_device_rule *rule)
{
	int access = (rule->make ? BPF_DEVCG_ACC_MKNOD : 0) |
		(rule->read ? BPF_DEVCG_ACC_READ : 0) |
		(rule->write ? BPF_DEVCG_ACC_WRITE : 0);
	int type = rule->type == 'b' ? BPF_DEVCG_DEV_BLOCK : BPF_DEVCG_DEV_CHAR;
	int all =
		BPF_DEVCG_ACC_MKNOD | BPF_DEVCG_ACC_READ | BPF_DEVCG_ACC_WRITE;
	size_t n = 0, jumps[PER_RULE], count = 0;

	if (rule->type != 'a') {
		jumps[count++] = n;
		at[n++] = insn(BPF_JMP32 | BPF_JNE | BPF_K, R_TYPE, 0, 0, type);
	}
	if (access != all) {
		/* An allowing rule covers all that is asked for, a refusing
		 * one any of it. */
		at[n++] = insn(
			BPF_ALU | BPF_MOV | BPF_X, R_SPARE, R_ACCESS, 0, 0);
		at[n++] = insn(BPF_ALU | BPF_AND | BPF_K, R_SPARE, 0, 0,
			rule->allow ? ~access & all : access);
		jumps[count++] = n;
		at[n++] = insn(
			BPF_JMP32 | (rule->allow ? BPF_JNE : BPF_JEQ) | BPF_K,
			R_SPARE, 0, 0, 0);
	}
	if (rule->major_id >= 0) {
		jumps[count++] = n;
		at[n++] = insn(BPF_JMP32 | BPF_JNE | BPF_K, R_MAJOR, 0, 0,
			(int)rule->major_id);
	}
	if (rule->minor_id >= 0) {
		jumps[count++] = n;
		at[n++] = insn(BPF_JMP32 | BPF_JNE | BPF_K, R_MINOR, 0, 0,
			(int)rule->minor_id);
	}
	at[n++] =
		insn(BPF_ALU64 | BPF_MOV | BPF_K, R_RESULT, 0, 0, rule->allow);
	at[n++] = insn(BPF_JMP | BPF_EXIT, 0, 0, 0, 0);
	for (size_t i = 0; i < count; i++)
		at[jumps[i]].off = (int16_t)(n - jumps[i] - 1);
	return n;
}

static int load(const struct bpf_insn *program, size_t count)
{
	union bpf_attr attr;

	memset(&attr, 0, sizeof(attr));
	attr.prog_type = BPF_PROG_TYPE_CGROUP_DEVICE;
	attr.insns = (uint64_t)(uintptr_t)program;
	attr.insn_cnt = (uint32_t)count;
	attr.license = (uint64_t)(uintptr_t) "GPL";
	return (int)syscall(SYS_bpf, BPF_PROG_LOAD, &attr, sizeof(attr));
}

/* What an earlier call has attached, or -1. */
static int attached(int group)
{
	uint32_t ids[8] = {0};
	union bpf_attr attr;

	memset(&attr, 0, sizeof(attr));
	attr.query.target_fd = (uint32_t)group;
	attr.query.attach_type = BPF_CGROUP_DEVICE;
	attr.query.prog_ids = (uint64_t)(uintptr_t)ids;
	attr.query.prog_cnt = 8;
	if (syscall(SYS_bpf, BPF_PROG_QUERY, &attr, sizeof(attr)) ||
		attr.query.prog_cnt == 0)
		return -1;
	memset(&attr, 0, sizeof(attr));
	attr.prog_id = ids[0];
	return (int)syscall(
		SYS_bpf, BPF_PROG_GET_FD_BY_ID, &attr, sizeof(attr));
}

static int attach(int group, int program, int replaced)
{
	union bpf_attr attr;

	memset(&attr, 0, sizeof(attr));
	attr.target_fd = (uint32_t)group;
	attr.attach_bpf_fd = (uint32_t)program;
	attr.attach_type = BPF_CGROUP_DEVICE;
	attr.attach_flags = BPF_F_ALLOW_MULTI;
	if (replaced >= 0) {
		attr.attach_flags |= BPF_F_REPLACE;
		attr.replace_bpf_fd = (uint32_t)replaced;
	}
	return (int)syscall(SYS_bpf, BPF_PROG_ATTACH, &attr, sizeof(attr));
}

int device_filter_attach(
	int group, const struct th_device_rule *rules, size_t count)
{
	struct bpf_insn *program;
	bool decided = false;
	size_t n;
	int fd, old = -1, rc = -1, sys;

	program = calloc((count + 2) * (PER_RULE + 2), sizeof(*program));
	if (!program)
		return -1;
	n = begin(program);
	/* What stands behind a rule that fits all is refused by the kernel, as
	 * it cannot be reached. */
	for (size_t i = count; i > 0 && !decided; i--) {
		size_t len = add_rule(program + n, &rules[i - 1]);

		decided = len == 2;
		n += len;
	}
	if (!decided) {
		program[n++] =
			insn(BPF_ALU64 | BPF_MOV | BPF_K, R_RESULT, 0, 0, 0);
		program[n++] = insn(BPF_JMP | BPF_EXIT, 0, 0, 0, 0);
	}
	fd = load(program, n);
	if (fd >= 0) {
		old = attached(group);
		rc = attach(group, fd, old);
	}
	sys = errno;
	th_close(&old);
	th_close(&fd);
	free(program);
	errno = sys;
	return rc;
}
