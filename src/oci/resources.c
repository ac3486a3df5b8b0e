#include "oci/resources.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "oci/read.h"

/* A number of the file and where it goes. */
struct member {
	const char *key;
	int64_t *value;
	int64_t least;
};

static int read_members(const json_t *object, const char *where,
	const struct member *members, size_t count, struct th_error *err)
{
	for (size_t i = 0; i < count; i++) {
		if (read_number(object, members[i].key, where, members[i].least,
			    INT64_MAX, members[i].value, err) < 0)
			return -1;
	}
	return 0;
}

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

void th_resources_init(struct th_resources *resources)
{
	int64_t *unset[] = {&resources->memory, &resources->memory_low,
		&resources->memory_swap, &resources->memory_kernel_tcp,
		&resources->swappiness, &resources->cpu_shares,
		&resources->cpu_quota, &resources->cpu_period,
		&resources->cpu_burst, &resources->cpu_idle,
		&resources->cpu_rt_period, &resources->cpu_rt_runtime,
		&resources->pids, &resources->block_weight,
		&resources->block_leaf_weight, &resources->class_id};

	memset(resources, 0, sizeof(*resources));
	for (size_t i = 0; i < COUNT(unset); i++)
		*unset[i] = TH_UNSET;
}

static int read_memory(
	const json_t *parent, struct th_resources *out, struct th_error *err)
{
	static const char *const done[] = {"limit", "reservation", "swap",
		"kernelTCP", "swappiness", "disableOOMKiller", "useHierarchy",
		"checkBeforeUpdate", NULL};
	/* Kernels have given up limits of their own memory: those made
	 * harmless calls fail. */
	static const char *const refused[] = {"kernel", NULL};
	static const struct shape shape = {
		"linux.resources.memory", done, refused};
	const struct member members[] = {{"limit", &out->memory, -1},
		{"reservation", &out->memory_low, -1},
		{"swap", &out->memory_swap, -1},
		{"kernelTCP", &out->memory_kernel_tcp, -1},
		{"swappiness", &out->swappiness, 0}};
	bool hierarchy = true;
	json_t *object;
	int rc = th_json_object(parent, "memory", "resources", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		read_members(
			object, shape.where, members, COUNT(members), err) ||
		th_json_bool(object, "disableOOMKiller", shape.where,
			&out->keep_alive, err) < 0 ||
		th_json_bool(object, "checkBeforeUpdate", shape.where,
			&out->check_first, err) < 0 ||
		th_json_bool(object, "useHierarchy", shape.where, &hierarchy,
			err) < 0)
		return -1;
	out->flat = !hierarchy;
	for (size_t i = 0; i < COUNT(members); i++) {
		/* What engines write for "not set"; nothing could run in it. */
		if (*members[i].value == 0 && members[i].least < 0)
			*members[i].value = TH_UNSET;
	}
	return 1;
}

static int read_cpu(
	const json_t *parent, struct th_resources *out, struct th_error *err)
{
	static const char *const done[] = {"shares", "quota", "period", "burst",
		"idle", "realtimePeriod", "realtimeRuntime", "cpus", "mems",
		NULL};
	static const struct shape shape = {"linux.resources.cpu", done, NULL};
	const struct member members[] = {{"shares", &out->cpu_shares, 0},
		{"quota", &out->cpu_quota, -1}, {"period", &out->cpu_period, 0},
		{"burst", &out->cpu_burst, 0}, {"idle", &out->cpu_idle, 0},
		{"realtimePeriod", &out->cpu_rt_period, 0},
		{"realtimeRuntime", &out->cpu_rt_runtime, -1}};
	json_t *object;
	int rc = th_json_object(parent, "cpu", "resources", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		read_members(
			object, shape.where, members, COUNT(members), err) ||
		read_copy(object, "cpus", shape.where, &out->cpus, err) < 0 ||
		read_copy(object, "mems", shape.where, &out->mems, err) < 0)
		return -1;
	/* 0 is none of the values that these can have. */
	for (size_t i = 0; i < 3; i++) {
		if (*members[i].value == 0)
			*members[i].value = TH_UNSET;
	}
	return 1;
}

static int read_throttle(const json_t *item, void *out, struct th_error *err)
{
	struct th_throttle *throttle = out;
	int64_t rate = 0;

	if (read_number(item, "major", "a throttle", 0, UINT32_MAX,
		    &throttle->major_id, err) < 0 ||
		read_number(item, "minor", "a throttle", 0, UINT32_MAX,
			&throttle->minor_id, err) < 0 ||
		th_json_int(item, "rate", "a throttle", &rate, err) < 0)
		return -1;
	throttle->rate = (uint64_t)rate;
	return 0;
}

static int read_weight(const json_t *item, void *out, struct th_error *err)
{
	struct th_block_weight *weight = out;

	weight->weight = weight->leaf_weight = TH_UNSET;
	if (read_number(item, "major", "a weight", 0, UINT32_MAX,
		    &weight->major_id, err) < 0 ||
		read_number(item, "minor", "a weight", 0, UINT32_MAX,
			&weight->minor_id, err) < 0 ||
		read_number(item, "weight", "a weight", 0, 1000,
			&weight->weight, err) < 0 ||
		read_number(item, "leafWeight", "a weight", 0, 1000,
			&weight->leaf_weight, err) < 0)
		return -1;
	if (weight->weight == TH_UNSET && weight->leaf_weight == TH_UNSET)
		return th_fail(err, TH_FAILED,
			"a weightDevice has neither weight nor leafWeight");
	return 0;
}

static int read_block(
	const json_t *parent, struct th_resources *out, struct th_error *err)
{
	static const char *const kinds[] = {"throttleReadBpsDevice",
		"throttleWriteBpsDevice", "throttleReadIOPSDevice",
		"throttleWriteIOPSDevice"};
	static const char *const done[] = {"weight", "leafWeight",
		"weightDevice", "throttleReadBpsDevice",
		"throttleWriteBpsDevice", "throttleReadIOPSDevice",
		"throttleWriteIOPSDevice", NULL};
	static const struct shape shape = {
		"linux.resources.blockIO", done, NULL};
	static const char *const rate[] = {"major", "minor", "rate", NULL};
	static const char *const weight[] = {
		"major", "minor", "weight", "leafWeight", NULL};
	const struct shape throttle = {"a throttle of blockIO", rate, NULL};
	const struct shape device = {"a weightDevice", weight, NULL};
	void *items = NULL;
	json_t *object;
	int rc = th_json_object(parent, "blockIO", "resources", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		read_number(object, "weight", shape.where, 0, 1000,
			&out->block_weight, err) < 0 ||
		read_number(object, "leafWeight", shape.where, 0, 1000,
			&out->block_leaf_weight, err) < 0)
		return -1;
	for (int i = 0; i < TH_THROTTLE_KINDS; i++) {
		items = NULL;
		rc = read_items(object, kinds[i], &throttle,
			sizeof(struct th_throttle), &items,
			&out->throttle_counts[i], read_throttle, err);
		out->throttles[i] = items;
		if (rc < 0)
			return -1;
	}
	items = NULL;
	rc = read_items(object, "weightDevice", &device,
		sizeof(struct th_block_weight), &items, &out->weight_count,
		read_weight, err);
	out->weights = items;
	return rc < 0 ? -1 : 1;
}

static int read_hugepages(const json_t *item, void *out, struct th_error *err)
{
	struct th_hugepages *pages = out;
	const char *size = NULL;
	int64_t limit = 0;
	size_t digits;

	if (th_json_string(item, "pageSize", "a hugepageLimit", &size, err) <
			0 ||
		th_json_int(item, "limit", "a hugepageLimit", &limit, err) < 0)
		return -1;
	digits = size ? strspn(size, "0123456789") : 0;
	if (!digits || digits > 8 || *size == '0' ||
		!strchr("KMG", size[digits]) || strcmp(size + digits + 1, "B"))
		return th_fail(err, TH_FAILED,
			"\"%.30s\" is not a page size; for example 64KB, 2MB, "
			"1GB",
			size ? size : "");
	snprintf(pages->size, sizeof(pages->size), "%s", size);
	pages->limit = (uint64_t)limit;
	return 0;
}

static int read_network(
	const json_t *parent, struct th_resources *out, struct th_error *err)
{
	static const char *const done[] = {"classID", "priorities", NULL};
	static const struct shape shape = {
		"linux.resources.network", done, NULL};
	json_t *object, *list, *item;
	size_t i;
	int rc = th_json_object(parent, "network", "resources", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		read_number(object, "classID", shape.where, 0, UINT32_MAX,
			&out->class_id, err) < 0 ||
		th_json_array(object, "priorities", shape.where, &list, err) <
			0)
		return -1;
	json_array_foreach(list, i, item)
	{
		const char *name = NULL;
		int64_t priority = 0;

		if (th_json_string(item, "name", "a priority", &name, err) <
				0 ||
			read_number(item, "priority", "a priority", 0,
				UINT32_MAX, &priority, err) < 0)
			return -1;
		if (!name || !*name || strpbrk(name, " \n"))
			return th_fail(err, TH_FAILED,
				"a network priority does not name a device");
		if (th_strings_take(&out->priorities,
			    th_format("%s %lld", name, (long long)priority)))
			return th_fail_memory(err);
	}
	return 1;
}

static int read_rdma(
	const json_t *parent, struct th_resources *out, struct th_error *err)
{
	static const char *const done[] = {"hcaHandles", "hcaObjects", NULL};
	static const struct shape shape = {"linux.resources.rdma", done, NULL};
	json_t *object, *limits;
	const char *device;
	int rc = th_json_object(parent, "rdma", "resources", &object, err);

	if (rc != 1)
		return rc;
	out->rdma = calloc(json_object_size(object) + 1, sizeof(*out->rdma));
	if (!out->rdma)
		return th_fail_memory(err);
	json_object_foreach(object, device, limits)
	{
		struct th_rdma *rdma = &out->rdma[out->rdma_count++];

		rdma->handles = rdma->objects = TH_UNSET;
		rdma->device = strdup(device);
		if (!rdma->device)
			return th_fail_memory(err);
		if (!json_is_object(limits))
			return th_fail(err, TH_FAILED,
				"%s has an item that is not an object",
				shape.where);
		if (shape_check(limits, &shape, err) ||
			read_number(limits, "hcaHandles", shape.where, 0,
				UINT32_MAX, &rdma->handles, err) < 0 ||
			read_number(limits, "hcaObjects", shape.where, 0,
				UINT32_MAX, &rdma->objects, err) < 0)
			return -1;
	}
	return 1;
}

static int read_device_rule(const json_t *item, void *out, struct th_error *err)
{
	static const char where[] = "linux.resources.devices";
	struct th_device_rule *rule = out;
	const char *type = "a", *access = "rwm";

	rule->major_id = rule->minor_id = -1;
	if (th_json_bool(item, "allow", where, &rule->allow, err) < 0 ||
		th_json_string(item, "type", where, &type, err) < 0 ||
		th_json_string(item, "access", where, &access, err) < 0 ||
		read_number(item, "major", where, -1, UINT32_MAX,
			&rule->major_id, err) < 0 ||
		read_number(item, "minor", where, -1, UINT32_MAX,
			&rule->minor_id, err) < 0)
		return -1;
	type = type && *type ? type : "a";
	access = access && *access ? access : "rwm";
	if (strlen(type) != 1 || !strchr("abcu", *type) ||
		strspn(access, "rwm") != strlen(access))
		return th_fail(err, TH_FAILED,
			"%s has a rule of type \"%.10s\" and access \"%.10s\"; "
			"types are a, b and c, accesses r, w and m",
			where, type, access);
	rule->type = *type == 'u' ? 'c' : *type;
	rule->read = strchr(access, 'r');
	rule->write = strchr(access, 'w');
	rule->make = strchr(access, 'm');
	return 0;
}

static int read_lists(
	const json_t *object, struct th_resources *out, struct th_error *err)
{
	static const char *const pages[] = {"pageSize", "limit", NULL};
	static const char *const rule[] = {
		"allow", "type", "major", "minor", "access", NULL};
	const struct shape page_shape = {
		"linux.resources.hugepageLimits", pages, NULL};
	const struct shape rule_shape = {"linux.resources.devices", rule, NULL};
	void *items = NULL;
	int rc;

	rc = read_items(object, "hugepageLimits", &page_shape,
		sizeof(struct th_hugepages), &items, &out->hugepage_count,
		read_hugepages, err);
	out->hugepages = items;
	if (rc < 0)
		return -1;
	items = NULL;
	rc = read_items(object, "devices", &rule_shape,
		sizeof(struct th_device_rule), &items, &out->device_count,
		read_device_rule, err);
	out->devices = items;
	return rc < 0 ? -1 : 0;
}

/* What goes straight to a file of the control group must be only its name. */
static int check_unified(
	const struct th_resources *resources, struct th_error *err)
{
	for (size_t i = 0; i < resources->unified.count; i++) {
		const char *entry = resources->unified.items[i];
		size_t len = strcspn(entry, "=");

		for (size_t k = 0; k < len; k++) {
			if (!isalnum((unsigned char)entry[k]) &&
				!strchr("._-", entry[k]))
				return th_fail(err, TH_FAILED,
					"linux.resources.unified has the "
					"invalid key \"%.*s\"",
					(int)len, entry);
		}
		if (!memchr(entry, '.', len) || entry[0] == '.')
			return th_fail(err, TH_FAILED,
				"linux.resources.unified has the invalid key "
				"\"%.*s\"",
				(int)len, entry);
	}
	return 0;
}

int th_resources_parse(const json_t *linux_part, struct th_resources *resources,
	struct th_error *err)
{
	static const char *const done[] = {"unified", "devices", "pids",
		"blockIO", "cpu", "hugepageLimits", "memory", "network", "rdma",
		NULL};
	static const char *const pids_done[] = {"limit", NULL};
	static const struct shape shape = {"linux.resources", done, NULL};
	static const struct shape pids_shape = {
		"linux.resources.pids", pids_done, NULL};
	json_t *object, *pids;
	int rc = th_json_object(linux_part, "resources", "linux", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		read_memory(object, resources, err) < 0 ||
		read_cpu(object, resources, err) < 0 ||
		read_block(object, resources, err) < 0 ||
		read_network(object, resources, err) < 0 ||
		read_rdma(object, resources, err) < 0 ||
		read_lists(object, resources, err) < 0 ||
		read_map(object, "unified", shape.where, &resources->unified,
			err) < 0 ||
		check_unified(resources, err))
		return -1;
	rc = th_json_object(object, "pids", shape.where, &pids, err);
	if (rc == 1 &&
		(shape_check(pids, &pids_shape, err) ||
			read_number(pids, "limit", pids_shape.where, -1,
				INT64_MAX, &resources->pids, err) < 0))
		return -1;
	return rc < 0 ? -1 : 1;
}

void th_resources_release(struct th_resources *resources)
{
	free(resources->cpus);
	free(resources->mems);
	free(resources->weights);
	for (int i = 0; i < TH_THROTTLE_KINDS; i++)
		free(resources->throttles[i]);
	free(resources->hugepages);
	th_strings_release(&resources->priorities);
	for (size_t i = 0; i < resources->rdma_count; i++)
		free(resources->rdma[i].device);
	free(resources->rdma);
	th_strings_release(&resources->unified);
	free(resources->devices);
	th_resources_init(resources);
}

bool th_resources_empty(const struct th_resources *resources)
{
	bool lists = resources->weight_count || resources->hugepage_count ||
		resources->priorities.count || resources->rdma_count ||
		resources->unified.count || resources->cpus || resources->mems;
	const int64_t *values[] = {&resources->memory, &resources->memory_low,
		&resources->memory_swap, &resources->memory_kernel_tcp,
		&resources->swappiness, &resources->cpu_shares,
		&resources->cpu_quota, &resources->cpu_period,
		&resources->cpu_burst, &resources->cpu_idle,
		&resources->cpu_rt_period, &resources->cpu_rt_runtime,
		&resources->pids, &resources->block_weight,
		&resources->block_leaf_weight, &resources->class_id};

	for (int i = 0; i < TH_THROTTLE_KINDS; i++)
		lists |= resources->throttle_counts[i] > 0;
	for (size_t i = 0; i < COUNT(values); i++)
		lists |= *values[i] != TH_UNSET;
	return !lists && !resources->keep_alive;
}
