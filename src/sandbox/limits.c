#include "sandbox/limits.h"

#include <inttypes.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static struct limit *add(
	struct limits *limits, const char *controller, const char *what)
{
	static struct limit spare;
	struct limit *room = realloc(
		limits->items, (limits->count + 1) * sizeof(*limits->items));

	if (!room) {
		limits->failed = true;
		return &spare;
	}
	limits->items = room;
	room = &room[limits->count++];
	memset(room, 0, sizeof(*room));
	room->controller = controller;
	room->what = what;
	return room;
}

static void version2(struct limit *limit, const char *name, const char *fmt,
	...) __attribute__((format(printf, 3, 4)));
static void version1(struct limit *limit, const char *name, const char *fmt,
	...) __attribute__((format(printf, 3, 4)));

static void version2(
	struct limit *limit, const char *name, const char *fmt, ...)
{
	va_list args;

	snprintf(limit->file2, sizeof(limit->file2), "%s", name);
	va_start(args, fmt);
	vsnprintf(limit->value2, sizeof(limit->value2), fmt, args);
	va_end(args);
}

static void version1(
	struct limit *limit, const char *name, const char *fmt, ...)
{
	va_list args;

	snprintf(limit->file1, sizeof(limit->file1), "%s", name);
	va_start(args, fmt);
	vsnprintf(limit->value1, sizeof(limit->value1), fmt, args);
	va_end(args);
}

static void number_or_max(struct limit *limit, const char *name, int64_t value)
{
	if (value < 0)
		version2(limit, name, "max");
	else
		version2(limit, name, "%" PRId64, value);
}

static void read_swap(const struct th_resources *from, struct limits *to)
{
	struct limit *limit = add(to, "memory", "a swap limit");
	int64_t swap = from->memory_swap;

	/* Version 1 counts both together, version 2 the swap alone. */
	if (swap >= 0 && from->memory > 0)
		swap = swap > from->memory ? swap - from->memory : 0;
	number_or_max(limit, "memory.swap.max", swap);
	version1(limit, "memory.memsw.limit_in_bytes", "%" PRId64,
		from->memory_swap);
}

static void read_memory(const struct th_resources *from, struct limits *to)
{
	struct limit *limit;

	if (from->memory != TH_UNSET) {
		limit = add(to, "memory", "a memory limit");
		number_or_max(limit, "memory.max", from->memory);
		version1(limit, "memory.limit_in_bytes", "%" PRId64,
			from->memory);
	}
	if (from->memory_low != TH_UNSET) {
		limit = add(to, "memory", "a memory reservation");
		number_or_max(limit, "memory.low", from->memory_low);
		version1(limit, "memory.soft_limit_in_bytes", "%" PRId64,
			from->memory_low);
	}
	if (from->memory_swap != TH_UNSET)
		read_swap(from, to);
	if (from->memory_kernel_tcp != TH_UNSET)
		version1(add(to, "memory", "a TCP memory limit"),
			"memory.kmem.tcp.limit_in_bytes", "%" PRId64,
			from->memory_kernel_tcp);
	if (from->swappiness != TH_UNSET)
		version1(add(to, "memory", "a swappiness"), "memory.swappiness",
			"%" PRId64, from->swappiness);
	if (from->keep_alive)
		version1(
			add(to, "memory", "disabling the out-of-memory killer"),
			"memory.oom_control", "1");
}

static void read_cpu_time(const struct th_resources *from, struct limits *to)
{
	int64_t period = from->cpu_period > 0 ? from->cpu_period : 100000;
	struct limit *limit;

	if (from->cpu_period != TH_UNSET && from->cpu_period > 0) {
		limit = add(to, "cpu", "a CPU period");
		version1(limit, "cpu.cfs_period_us", "%" PRId64,
			from->cpu_period);
		limit->elsewhere2 = true;
	}
	if (from->cpu_quota != TH_UNSET || from->cpu_period > 0) {
		limit = add(to, "cpu", "a CPU limit");
		if (from->cpu_quota > 0)
			version2(limit, "cpu.max", "%" PRId64 " %" PRId64,
				from->cpu_quota, period);
		else
			version2(limit, "cpu.max", "max %" PRId64, period);
		version1(limit, "cpu.cfs_quota_us", "%" PRId64,
			from->cpu_quota > 0 ? from->cpu_quota : -1);
	}
	if (from->cpu_burst != TH_UNSET) {
		limit = add(to, "cpu", "a CPU burst");
		version2(limit, "cpu.max.burst", "%" PRId64, from->cpu_burst);
		version1(
			limit, "cpu.cfs_burst_us", "%" PRId64, from->cpu_burst);
	}
}

static void read_cpu(const struct th_resources *from, struct limits *to)
{
	struct limit *limit;

	if (from->cpu_shares != TH_UNSET && from->cpu_shares > 0) {
		int64_t shares = from->cpu_shares;

		shares = shares < 2 ? 2 : shares > 262144 ? 262144 : shares;
		limit = add(to, "cpu", "CPU shares");
		version2(limit, "cpu.weight", "%" PRId64,
			1 + (shares - 2) * 9999 / 262142);
		version1(limit, "cpu.shares", "%" PRId64, from->cpu_shares);
	}
	read_cpu_time(from, to);
	if (from->cpu_idle != TH_UNSET) {
		limit = add(to, "cpu", "idle CPU scheduling");
		version2(limit, "cpu.idle", "%" PRId64, from->cpu_idle);
		version1(limit, "cpu.idle", "%" PRId64, from->cpu_idle);
	}
	if (from->cpu_rt_period != TH_UNSET)
		version1(add(to, "cpu", "a real-time period"),
			"cpu.rt_period_us", "%" PRId64, from->cpu_rt_period);
	if (from->cpu_rt_runtime != TH_UNSET)
		version1(add(to, "cpu", "a real-time limit"),
			"cpu.rt_runtime_us", "%" PRId64, from->cpu_rt_runtime);
	if (from->cpus) {
		limit = add(to, "cpuset", "a set of CPUs");
		version2(limit, "cpuset.cpus", "%.190s", from->cpus);
		version1(limit, "cpuset.cpus", "%.190s", from->cpus);
	}
	if (from->mems) {
		limit = add(to, "cpuset", "a set of memory nodes");
		version2(limit, "cpuset.mems", "%.190s", from->mems);
		version1(limit, "cpuset.mems", "%.190s", from->mems);
	}
	if (from->pids != TH_UNSET) {
		limit = add(to, "pids", "a process limit");
		/* Nobody can mean none at all. */
		number_or_max(limit, "pids.max", from->pids ? from->pids : -1);
		snprintf(limit->file1, 64, "pids.max");
		snprintf(limit->value1, 192, "%s", limit->value2);
	}
}

/* 10 to 1000 of the specification to 1 to 10000. */
static int64_t wide_weight(int64_t weight)
{
	return weight < 10 ? 1 : 1 + (weight - 10) * 9999 / 990;
}

static void read_weights(const struct th_resources *from, struct limits *to)
{
	struct limit *limit;

	if (from->block_weight != TH_UNSET && from->block_weight > 0) {
		limit = add(to, "io", "an I/O weight");
		version2(limit, "io.weight", "default %" PRId64,
			wide_weight(from->block_weight));
		snprintf(limit->other2, 64, "io.bfq.weight");
		version1(limit, "blkio.weight", "%" PRId64, from->block_weight);
		snprintf(limit->other1, 64, "blkio.bfq.weight");
	}
	if (from->block_leaf_weight != TH_UNSET && from->block_leaf_weight > 0)
		version1(add(to, "io", "an I/O leaf weight"),
			"blkio.leaf_weight", "%" PRId64,
			from->block_leaf_weight);
	for (size_t i = 0; i < from->weight_count; i++) {
		const struct th_block_weight *weight = &from->weights[i];

		if (weight->weight != TH_UNSET) {
			limit = add(to, "io", "an I/O weight of a device");
			version2(limit, "io.weight",
				"%" PRId64 ":%" PRId64 " %" PRId64,
				weight->major_id, weight->minor_id,
				wide_weight(weight->weight));
			snprintf(limit->other2, 64, "io.bfq.weight");
			version1(limit, "blkio.weight_device",
				"%" PRId64 ":%" PRId64 " %" PRId64,
				weight->major_id, weight->minor_id,
				weight->weight);
			snprintf(limit->other1, 64, "blkio.bfq.weight_device");
		}
		if (weight->leaf_weight != TH_UNSET)
			version1(add(to, "io", "an I/O leaf weight"),
				"blkio.leaf_weight_device",
				"%" PRId64 ":%" PRId64 " %" PRId64,
				weight->major_id, weight->minor_id,
				weight->leaf_weight);
	}
}

static void read_throttles(const struct th_resources *from, struct limits *to)
{
	static const char *const keys[] = {"rbps", "wbps", "riops", "wiops"};
	static const char *const files[] = {"blkio.throttle.read_bps_device",
		"blkio.throttle.write_bps_device",
		"blkio.throttle.read_iops_device",
		"blkio.throttle.write_iops_device"};

	for (int kind = 0; kind < TH_THROTTLE_KINDS; kind++) {
		for (size_t i = 0; i < from->throttle_counts[kind]; i++) {
			const struct th_throttle *one =
				&from->throttles[kind][i];
			struct limit *limit = add(to, "io", "an I/O limit");

			version2(limit, "io.max",
				"%" PRId64 ":%" PRId64 " %s=%" PRIu64,
				one->major_id, one->minor_id, keys[kind],
				one->rate);
			version1(limit, files[kind],
				"%" PRId64 ":%" PRId64 " %" PRIu64,
				one->major_id, one->minor_id, one->rate);
		}
	}
}

static void read_others(const struct th_resources *from, struct limits *to)
{
	struct limit *limit;
	char name[64];

	for (size_t i = 0; i < from->hugepage_count; i++) {
		const struct th_hugepages *pages = &from->hugepages[i];

		limit = add(to, "hugetlb", "a huge page limit");
		snprintf(name, sizeof(name), "hugetlb.%s.max", pages->size);
		version2(limit, name, "%" PRIu64, pages->limit);
		snprintf(name, sizeof(name), "hugetlb.%s.limit_in_bytes",
			pages->size);
		version1(limit, name, "%" PRIu64, pages->limit);
	}
	if (from->class_id != TH_UNSET)
		version1(add(to, "net_cls", "a network class"),
			"net_cls.classid", "%" PRId64, from->class_id);
	for (size_t i = 0; i < from->priorities.count; i++)
		version1(add(to, "net_prio", "a network priority"),
			"net_prio.ifpriomap", "%.190s",
			from->priorities.items[i]);
	for (size_t i = 0; i < from->rdma_count; i++) {
		const struct th_rdma *rdma = &from->rdma[i];
		char text[150] = "";

		limit = add(to, "rdma", "an RDMA limit");
		if (rdma->handles != TH_UNSET)
			snprintf(text, sizeof(text), " hca_handle=%" PRId64,
				rdma->handles);
		if (rdma->objects != TH_UNSET)
			snprintf(text + strlen(text),
				sizeof(text) - strlen(text),
				" hca_object=%" PRId64, rdma->objects);
		version2(limit, "rdma.max", "%.60s%s", rdma->device, text);
		version1(limit, "rdma.max", "%.60s%s", rdma->device, text);
	}
}

void limits_read(const struct th_resources *resources, struct limits *limits)
{
	memset(limits, 0, sizeof(*limits));
	read_memory(resources, limits);
	read_cpu(resources, limits);
	read_weights(resources, limits);
	read_throttles(resources, limits);
	read_others(resources, limits);
}

void limits_release(struct limits *limits)
{
	free(limits->items);
	memset(limits, 0, sizeof(*limits));
}
