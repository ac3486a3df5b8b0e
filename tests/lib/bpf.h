/* Runs a system-call filter as the kernel does (net/core/filter.c), for the
 * instructions that such filters are made of. Anything else, and a program
 * without an end, fails the test. */
#ifndef TESTS_BPF_H
#define TESTS_BPF_H

#include <linux/seccomp.h>
#include <stdint.h>

#include "base/buffer.h"

/* SECCOMP_RET_... */
uint32_t bpf_run(const struct th_buf *program, const struct seccomp_data *data);

#endif
