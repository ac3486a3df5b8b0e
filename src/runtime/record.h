/* The folder of one container of the runtime. For the runtime module only. */
#ifndef TH_RUNTIME_RECORD_H
#define TH_RUNTIME_RECORD_H

#include <stdint.h>
#include <sys/types.h>

#include "oci/bundle.h"
#include "runtime/runtime.h"
#include "sandbox/cgroup.h"

struct record {
	int folder; /* DIR/ID */
	int lock;
	struct th_bundle bundle;
	char *bundle_path;
	char group[TH_CGROUP_PATH];
	struct th_strings made; /* folders of it that are ours to remove */
	pid_t pid;
	uint64_t started; /* of the process: ticks since boot */
	char boot[40];
	enum th_runtime_status status;
	int connection; /* where it is created and connect was asked for */
};

/* -1 where id cannot be one. */
int record_check_id(const char *id, struct th_error *err);
/* Opens an existing one and finds out its status; wait: locks it first. */
int record_open(const char *dir, const char *id, bool wait,
	struct record *record, struct th_error *err);
void record_release(struct record *record);
int record_write(const struct record *record, struct th_error *err);

/* When the process was started, in ticks; 0 where it has gone or is dead. */
uint64_t process_start(pid_t pid);
void read_boot(char boot[40]);
const char *status_word(enum th_runtime_status status);

#endif
