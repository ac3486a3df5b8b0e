/* The system calls that a container may make by default (container/calls.h),
 * as an OCI seccomp object, and its compiled form in the store. */
#ifndef TH_CONTAINER_FILTER_RULES_H
#define TH_CONTAINER_FILTER_RULES_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "store/store.h"

/* The rules for a container with the capabilities: a new reference, or NULL
 * without memory. What is not listed gets ENOSYS, as on a kernel without it.
 * old_sockets: 32-bit socketcall as well, and with it every socket family. */
json_t *th_filter_rules(uint64_t capabilities, bool old_sockets);

/* Compiles the rules into ROOT/filters, where they are not there yet, and
 * gives the name under which they lie. */
int th_filter_keep(struct th_store *store, const json_t *rules, char name[72],
	struct th_error *err);

#endif
