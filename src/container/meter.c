#include "container/meter.h"

#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"
#include "container/processes.h"

#define FILE_MAX_BYTES (1u << 20)

/* All devices of the container but its loopback (proc(5), /proc/PID/net/dev).
 */
static void read_network(int pid, struct th_meter *meter)
{
	struct th_error ignored = {0}; /* then not counted */
	struct th_buf text;
	char path[64];

	snprintf(path, sizeof(path), "/proc/%d/net/dev", pid);
	th_buf_init(&text, FILE_MAX_BYTES);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		meter->received_bytes = meter->sent_bytes = 0;
		for (const char *at = text.data; *at;) {
			const char *colon = strchr(at, ':');
			const char *end = at + strcspn(at, "\n");
			int64_t in, out;

			if (colon && colon < end &&
				strncmp(colon - 2, "lo", 2) != 0 &&
				sscanf(colon,
					": %" SCNd64 " %*d %*d %*d %*d %*d "
					"%*d %*d %" SCNd64,
					&in, &out) == 2) {
				meter->received_bytes += in;
				meter->sent_bytes += out;
			}
			at = *end ? end + 1 : end;
		}
	}
	th_buf_release(&text);
}

static int64_t io_value(const char *text, const char *key)
{
	const char *at = strstr(text, key);

	return at ? strtoll(at + strlen(key), NULL, 10) : 0;
}

static void add_io(int pid, struct th_usage *usage)
{
	struct th_error ignored = {0}; /* then not counted */
	struct th_buf text;
	char path[64];

	snprintf(path, sizeof(path), "/proc/%d/io", pid);
	th_buf_init(&text, 4096);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		if (usage->read_bytes == TH_UNSET)
			usage->read_bytes = usage->written_bytes = 0;
		usage->read_bytes += io_value(text.data, "\nread_bytes: ");
		usage->written_bytes += io_value(text.data, "\nwrite_bytes: ");
	}
	th_buf_release(&text);
}

/* Where no controller counts, the processes are added up. */
static int add_processes(const struct th_context *context,
	const struct th_container_row *row, struct th_meter *meter,
	struct th_error *err)
{
	struct th_usage *usage = &meter->usage;
	struct th_process_row *rows = NULL;
	int64_t cpu_us = 0, memory = 0;
	bool io = usage->read_bytes == TH_UNSET;
	size_t count = 0;

	if (th_container_processes(
		    context, row, TH_PROCESS_FIGURES, &rows, &count, err))
		return -1;
	for (size_t i = 0; i < count; i++) {
		cpu_us += (int64_t)rows[i].cpu_us;
		memory += (int64_t)rows[i].memory_bytes;
		if (io)
			add_io(rows[i].pid, usage);
	}
	free(rows);
	if (usage->cpu_us == TH_UNSET)
		usage->cpu_us = cpu_us;
	if (usage->memory_bytes == TH_UNSET) {
		usage->memory_bytes = memory;
		meter->estimated = true;
	}
	if (usage->processes == TH_UNSET)
		usage->processes = (int64_t)count;
	return 0;
}

int th_container_meter(const struct th_context *context,
	const struct th_container_row *row, struct th_meter *meter,
	struct th_error *err)
{
	char path[TH_CGROUP_PATH];
	struct th_cgroup group;

	memset(meter, 0, sizeof(*meter));
	meter->received_bytes = meter->sent_bytes = TH_UNSET;
	th_container_group(context, row, path);
	th_cgroup_open(path, &group);
	th_cgroup_usage(&group, &meter->usage);
	th_cgroup_close(&group);
	if ((meter->usage.cpu_us == TH_UNSET ||
		    meter->usage.memory_bytes == TH_UNSET ||
		    meter->usage.processes == TH_UNSET ||
		    meter->usage.read_bytes == TH_UNSET) &&
		add_processes(context, row, meter, err))
		return -1;
	read_network(row->pid, meter);
	meter->time_us = th_clock_now_us();
	return 0;
}
