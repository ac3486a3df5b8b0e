/* System calls by name and number, and the table of them for the docs. */
#ifndef TESTS_CALLS_H
#define TESTS_CALLS_H

#include <stddef.h>

#include "base/buffer.h"

enum abi { ABI_NATIVE, ABI_32 };

#define ABI_CALLS_MAX 600

struct abi_call {
	int number;
	char name[40];
};

/* Every call of the ABI: what the kernel's headers (asm/unistd_64.h,
 * asm/unistd_32.h) have, and the newer ones. Returns how many, 0 where the
 * headers are missing. */
size_t abi_calls(enum abi abi, struct abi_call list[ABI_CALLS_MAX]);

/* The Markdown table of all groups (container/calls.h). */
void call_table_write(struct th_buf *text);

#endif
