#include "lib/bpf.h"

#include <linux/filter.h>
#include <stdbool.h>
#include <string.h>

#include "lib/suite.h"

uint32_t bpf_run(const struct th_buf *program, const struct seccomp_data *data)
{
	const struct sock_filter *code = (const void *)program->data;
	size_t count = program->len / sizeof(*code), at = 0;
	uint32_t a = 0;

	while (at < count) {
		const struct sock_filter *one = &code[at++];
		bool jump = false;

		switch (one->code) {
		case BPF_LD | BPF_W | BPF_ABS:
			memcpy(&a, (const char *)data + one->k, sizeof(a));
			continue;
		case BPF_ALU | BPF_AND | BPF_K:
			a &= one->k;
			continue;
		case BPF_RET | BPF_K:
			return one->k;
		case BPF_JMP | BPF_JA:
			at += one->k;
			continue;
		case BPF_JMP | BPF_JEQ | BPF_K:
			jump = a == one->k;
			break;
		case BPF_JMP | BPF_JGT | BPF_K:
			jump = a > one->k;
			break;
		case BPF_JMP | BPF_JGE | BPF_K:
			jump = a >= one->k;
			break;
		case BPF_JMP | BPF_JSET | BPF_K:
			jump = a & one->k;
			break;
		default:
			CU_FAIL("an instruction that the test does not know");
			return 0;
		}
		at += jump ? one->jt : one->jf;
	}
	CU_FAIL("the program has no end");
	return 0;
}
