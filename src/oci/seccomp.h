/* The system-call filter of an OCI runtime config.json (OCI Runtime
 * Specification, config-linux.md, "Seccomp"), as it stands in the file. */
#ifndef TH_OCI_SECCOMP_H
#define TH_OCI_SECCOMP_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"

enum th_call_action {
	TH_CALL_KILL, /* the thread */
	TH_CALL_KILL_PROCESS,
	TH_CALL_KILL_THREAD,
	TH_CALL_TRAP,
	TH_CALL_ERRNO,
	TH_CALL_TRACE,
	TH_CALL_ALLOW,
	TH_CALL_LOG,
	TH_CALL_NOTIFY
};

enum th_call_operator {
	TH_CALL_NE,
	TH_CALL_LT,
	TH_CALL_LE,
	TH_CALL_EQ,
	TH_CALL_GE,
	TH_CALL_GT,
	TH_CALL_MASKED_EQ
};

/* Their words, in the order of the values; NULL ends. */
extern const char *const th_seccomp_actions[];
extern const char *const th_seccomp_operators[];
/* The flags of filters that are known; NULL behind the last. */
const char *th_seccomp_flag(size_t number);
unsigned int th_seccomp_flag_value(size_t number);

struct th_call_argument {
	unsigned int index; /* 0 to 5 */
	enum th_call_operator op;
	uint64_t value, value_two;
};

struct th_call_rule {
	struct th_strings names;
	enum th_call_action action;
	unsigned int error_code; /* of ERRNO and TRACE */
	struct th_call_argument arguments[16];
	size_t argument_count;
};

struct th_seccomp {
	bool given;
	enum th_call_action default_action;
	unsigned int default_code;
	struct th_strings architectures; /* SCMP_ARCH_... */
	unsigned int flags; /* SECCOMP_FILTER_FLAG_... */
	char *listener_path; /* NULL where not given */
	char *listener_metadata;
	struct th_call_rule *rules; /* owned */
	size_t rule_count;
};

/* Reads the member "seccomp" of the object linux_part. 1, 0, -1. */
int th_seccomp_parse(const json_t *linux_part, struct th_seccomp *seccomp,
	struct th_error *err);
void th_seccomp_release(struct th_seccomp *seccomp);

#endif
