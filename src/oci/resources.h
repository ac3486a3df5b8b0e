/* Limits of an OCI runtime config.json (OCI Runtime Specification,
 * config-linux.md, "Control groups"). */
#ifndef TH_OCI_RESOURCES_H
#define TH_OCI_RESOURCES_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"

/* A number that was not given. */
#define TH_UNSET INT64_MIN

struct th_device_rule {
	bool allow;
	char type; /* 'a', 'b' or 'c' */
	int64_t major_id, minor_id; /* -1: any */
	bool read, write, make;
};

enum th_throttle_kind {
	TH_THROTTLE_READ_BPS,
	TH_THROTTLE_WRITE_BPS,
	TH_THROTTLE_READ_IOPS,
	TH_THROTTLE_WRITE_IOPS,
	TH_THROTTLE_KINDS
};

struct th_throttle {
	int64_t major_id, minor_id;
	uint64_t rate;
};

struct th_block_weight {
	int64_t major_id, minor_id;
	int64_t weight, leaf_weight; /* or TH_UNSET */
};

struct th_hugepages {
	char size[16]; /* "2MB" */
	uint64_t limit;
};

struct th_rdma {
	char *device;
	int64_t handles, objects; /* or TH_UNSET */
};

struct th_resources {
	bool flat; /* accounting without hierarchy was asked for */
	/* bytes; -1: no limit; TH_UNSET: not given */
	int64_t memory, memory_low, memory_swap; /* swap: both together */
	int64_t memory_kernel_tcp, swappiness;
	bool keep_alive; /* disableOOMKiller */
	bool check_first; /* checkBeforeUpdate */
	/* microseconds where they are times */
	int64_t cpu_shares, cpu_quota, cpu_period, cpu_burst, cpu_idle;
	int64_t cpu_rt_period, cpu_rt_runtime;
	char *cpus, *mems; /* lists, or NULL */
	int64_t pids;
	int64_t block_weight, block_leaf_weight;
	struct th_block_weight *weights; /* all owned */
	size_t weight_count;
	struct th_throttle *throttles[TH_THROTTLE_KINDS];
	size_t throttle_counts[TH_THROTTLE_KINDS];
	struct th_hugepages *hugepages;
	size_t hugepage_count;
	int64_t class_id;
	struct th_strings priorities; /* "eth0 5" */
	struct th_rdma *rdma;
	size_t rdma_count;
	struct th_strings unified; /* "memory.high=1000" */
	struct th_device_rule *devices;
	size_t device_count;
};

void th_resources_init(struct th_resources *resources);
/* Reads the member "resources" of the object linux_part into an initialised
 * structure. 1, 0 where there is none, -1. */
int th_resources_parse(const json_t *linux_part, struct th_resources *resources,
	struct th_error *err);
void th_resources_release(struct th_resources *resources);

/* True where nothing but device rules is asked for. */
bool th_resources_empty(const struct th_resources *resources);

#endif
