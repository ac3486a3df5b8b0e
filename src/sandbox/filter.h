/* The system-call filter: from the bundle's rules to the kernel's program
 * (seccomp(2)), compiled once and loaded as bytes. */
#ifndef TH_SANDBOX_FILTER_H
#define TH_SANDBOX_FILTER_H

#include "base/buffer.h"
#include "oci/seccomp.h"

/* Bytes of the longest program that the kernel takes. */
#define TH_FILTER_MAX (4096 * 8)

/* Appends the kernel's instructions (struct sock_filter). TH_NOT_POSSIBLE
 * where a rule cannot be expressed. System calls that no architecture of the
 * rules knows are left out: they cannot be made either. */
int th_filter_compile(const struct th_seccomp *seccomp, struct th_buf *program,
	struct th_error *err);

/* Loads it for the calling thread. With a listener *fd is the descriptor that
 * hears of calls (SECCOMP_FILTER_FLAG_NEW_LISTENER), else -1. */
int th_filter_load(const struct th_buf *program, unsigned int flags,
	bool listener, int *fd, struct th_error *err);

#endif
