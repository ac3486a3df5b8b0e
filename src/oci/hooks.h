/* Hooks of an OCI runtime config.json (OCI Runtime Specification, config.md,
 * "POSIX-platform Hooks"). */
#ifndef TH_OCI_HOOKS_H
#define TH_OCI_HOOKS_H

#include <jansson.h>

#include "base/buffer.h"
#include "base/error.h"

enum th_hook_kind {
	TH_HOOK_PRESTART, /* given up by the specification, still allowed */
	TH_HOOK_CREATE_RUNTIME,
	TH_HOOK_CREATE_CONTAINER,
	TH_HOOK_START_CONTAINER,
	TH_HOOK_POSTSTART,
	TH_HOOK_POSTSTOP,
	TH_HOOK_KINDS
};

struct th_hook {
	char *path; /* absolute */
	struct th_strings args; /* may be empty */
	struct th_strings env;
	int timeout_s; /* 0: none */
};

struct th_hooks {
	struct th_hook *items; /* owned */
	size_t count;
};

/* The kind's name in the file: "createRuntime". */
const char *th_hook_name(enum th_hook_kind kind);

/* Reads the member "hooks" of doc into TH_HOOK_KINDS lists. */
int th_hooks_parse(
	const json_t *doc, struct th_hooks *hooks, struct th_error *err);
void th_hooks_release(struct th_hooks *hooks);

#endif
