/* The system calls that a container may make by default (container/calls.h),
 * as an OCI seccomp object, and its compiled form in the store. */
#ifndef TH_CONTAINER_FILTER_RULES_H
#define TH_CONTAINER_FILTER_RULES_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "store/store.h"

/* The rules for a container with the capabilities: a new reference, or NULL
 * without memory. What is not listed gets ENOSYS, as on a kernel without it.
 * old_sockets: 32-bit socketcall as well, and with it every socket family. */
json_t *th_filter_rules(uint64_t capabilities, bool old_sockets);

#define TH_FILTER_NAME 48
/* Gives the rules for a container with the capabilities as JSON text, and the
 * name of their compiled form in ROOT/filters. Both are made where they do not
 * lie there yet. text must take TH_FILTER_MAX. */
int th_filter_keep(struct th_store *store, uint64_t capabilities,
	bool old_sockets, char name[TH_FILTER_NAME], struct th_buf *text,
	struct th_error *err);

#endif
