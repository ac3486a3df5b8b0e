#include "container/bundle_linux.h"

#include <stdio.h>
#include <string.h>

#include "container/cdi.h"
#include "network/network.h"
#include "oci/bundle.h"

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

/* What a container may do as root inside: manage its own files, users and
 * processes, and listen on low ports. */
static const char *const capabilities[] = {"CAP_CHOWN", "CAP_DAC_OVERRIDE",
	"CAP_FOWNER", "CAP_FSETID", "CAP_KILL", "CAP_NET_BIND_SERVICE",
	"CAP_SETGID", "CAP_SETPCAP", "CAP_SETUID", "CAP_SYS_CHROOT"};

/* Windows into the kernel that tell or change what is not the container's
 * (docs/safety.md). What only kernels before 5.14 have is not among them. */
static const char *const masked[] = {
	/* memory and addresses of the kernel */
	"/proc/kcore", "/proc/kallsyms", "/sys/kernel/vmcoreinfo",
	"/sys/kernel/debug", "/sys/kernel/tracing",
	/* keys and messages of everybody */
	"/proc/keys", "/proc/key-users", "/proc/kmsg",
	/* what others do, to be timed from here */
	"/proc/interrupts", "/proc/timer_list", "/proc/latency_stats",
	"/sys/devices/virtual/powercap",
	/* controls of devices and firmware */
	"/proc/acpi", "/proc/asound", "/proc/scsi", "/sys/firmware"};
/* Further ones that only the host's root could read. */
static const char *const masked_for_root[] = {"/proc/kpagecount",
	"/proc/kpageflags", "/proc/kpagecgroup", "/proc/slabinfo",
	"/proc/vmallocinfo", "/proc/pagetypeinfo", "/sys/kernel/slab"};
static const char *const protected_paths[] = {"/proc/sys",
	"/proc/sysrq-trigger", "/proc/irq", "/proc/bus", "/proc/driver",
	"/proc/mtrr", "/proc/fs", "/proc/dynamic_debug"};

/* What of /dev may be used: null, zero, full, random, urandom, tty, the
 * terminals of its own. */
static const struct {
	int major_id, minor_id;
} usable[] = {
	{1, 3}, {1, 5}, {1, 7}, {1, 8}, {1, 9}, {5, 0}, {5, 2}, {136, -1}};

static void add_strings(json_t *array, const char *const *list, size_t count)
{
	for (size_t i = 0; i < count; i++)
		json_array_append_new(array, json_string(list[i]));
}

static json_t *strings(const char *const *list, size_t count)
{
	json_t *array = json_array();

	add_strings(array, list, count);
	return array;
}

uint64_t th_default_capabilities(const struct th_settings *settings)
{
	uint64_t set = 0;

	for (size_t i = 0; i < COUNT(capabilities); i++)
		set |= (uint64_t)1 << th_capability_number(capabilities[i]);
	for (size_t i = 0; i < settings->capabilities.count; i++) {
		const char *change = settings->capabilities.items[i];
		char name[64];
		uint64_t bit;
		int number;

		/* What is none is told with the other problems. */
		if (!*change)
			continue;
		snprintf(name, sizeof(name), "CAP_%.50s", change + 1);
		number = th_capability_number(name);
		if (number < 0)
			continue;
		bit = (uint64_t)1 << number;
		set = *change == '+' ? set | bit : set & ~bit;
	}
	return set;
}

static json_t *make_namespaces(const struct th_settings *settings)
{
	static const char *const kinds[] = {
		"mount", "pid", "uts", "ipc", "cgroup", "network"};
	bool new = strcmp(settings->network, "host") != 0 &&
		!th_network_is_with(settings->network);
	json_t *namespaces = json_array();

	for (size_t i = 0; i < COUNT(kinds) - (new ? 0 : 1); i++)
		json_array_append_new(
			namespaces, json_pack("{s:s}", "type", kinds[i]));
	return namespaces;
}

static json_t *make_resources(const struct th_settings *settings)
{
	json_t *rules = json_array(), *resources;
	bool all = settings->allow & TH_ALLOW_DEVICES;

	json_array_append_new(rules,
		json_pack("{s:b s:s}", "allow", (int)all, "access", "rwm"));
	for (size_t i = 0; !all && i < COUNT(usable); i++) {
		json_t *rule =
			json_pack("{s:b s:s s:i s:s}", "allow", 1, "type", "c",
				"major", usable[i].major_id, "access", "rwm");

		if (usable[i].minor_id >= 0)
			json_object_set_new(rule, "minor",
				json_integer(usable[i].minor_id));
		json_array_append_new(rules, rule);
	}
	resources = json_pack("{s:o}", "devices", rules);
	if (resources)
		th_limit_write(&settings->limit, resources);
	return resources;
}

static int add_devices(const struct th_settings *settings, json_t *config,
	struct th_error *err)
{
	static const char *const usual[] = {"/etc/cdi", "/var/run/cdi", NULL};
	struct th_strings applied = {0};
	int rc = 0;

	for (size_t i = 0; rc == 0 && i < settings->device_texts.count; i++) {
		const char *text = settings->device_texts.items[i];

		rc = text[0] == '/'
			? th_device_add(config, text, NULL, "rwm", err)
			: th_cdi_apply(text,
				  settings->device_folders
					  ? settings->device_folders
					  : usual,
				  &applied, config, err);
	}
	th_strings_release(&applied);
	return rc;
}

int th_bundle_linux(struct th_store *store, const char *id,
	const struct th_settings *settings, json_t *config,
	struct th_error *err)
{
	bool open = settings->allow & TH_ALLOW_KERNEL;
	char group[96];
	json_t *part;

	th_group_path(store, id, group);
	part = json_pack("{s:o s:s s:o s:o s:o}", "namespaces",
		make_namespaces(settings), "cgroupsPath", group, "resources",
		make_resources(settings), "maskedPaths",
		strings(masked, open ? 0 : COUNT(masked)), "readonlyPaths",
		strings(protected_paths, open ? 0 : COUNT(protected_paths)));
	if (!part)
		return th_fail_memory(err);
	json_object_set_new(config, "linux", part);
	if (!open && !settings->caller.unprivileged)
		add_strings(json_object_get(part, "maskedPaths"),
			masked_for_root, COUNT(masked_for_root));
	return add_devices(settings, config, err);
}

/* ---- limits ---- */

static json_t *part_of(json_t *resources, const char *name)
{
	json_t *part = json_object_get(resources, name);

	if (!part) {
		part = json_object();
		json_object_set_new(resources, name, part);
	}
	return part;
}

void th_limit_write(const struct th_limit *limit, json_t *resources)
{
	json_t *part;

	if (limit->memory_bytes) {
		part = part_of(resources, "memory");
		json_object_set_new(
			part, "limit", json_integer(limit->memory_bytes));
	}
	if (limit->swap_bytes) {
		/* The specification counts both together. */
		part = part_of(resources, "memory");
		json_object_set_new(part, "swap",
			json_integer(limit->swap_bytes < 0 ? -1
							   : limit->swap_bytes +
						limit->memory_bytes));
	}
	if (limit->cpu_us) {
		part = part_of(resources, "cpu");
		json_object_set_new(
			part, "period", json_integer(TH_LIMIT_PERIOD_US));
		json_object_set_new(part, "quota", json_integer(limit->cpu_us));
	}
	if (limit->processes) {
		part = part_of(resources, "pids");
		json_object_set_new(
			part, "limit", json_integer(limit->processes));
	}
	if (limit->io_weight) {
		part = part_of(resources, "blockIO");
		json_object_set_new(part, "weight",
			json_integer(
				limit->io_weight < 0 ? 100 : limit->io_weight));
	}
}
