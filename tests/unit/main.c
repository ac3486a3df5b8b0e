/* The unit tests of the core. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"
#include "unit/unit.h"

char unit_folder[64];
int unit_folder_fd = -1;

static const struct suite *const suites[] = {&suite_buffer, &suite_clock,
	&suite_path, &suite_file, &suite_json, &suite_reference,
	&suite_manifest, &suite_image_config, &suite_bundle, &suite_inflate,
	&suite_apply, &suite_tar, &suite_cdi, &suite_log, &suite_settings,
	&suite_user, &suite_publish, &suite_subnet, &suite_network_state,
	&suite_resolver, &suite_config, &suite_database, &suite_blob,
	&suite_container_state, &suite_image_state, &suite_headers,
	&suite_token, &suite_search, &suite_logins, &suite_stage, &suite_lender,
	&suite_borrow, &suite_memory, &suite_hash, &suite_image_model,
	&suite_policy, &suite_types, &suite_runtime_record,
	&suite_mount_options, &suite_wall, &suite_relay, &suite_life,
	&suite_plan, &suite_machine, &suite_packed, &suite_resolve,
	&suite_calls, &suite_filter, &suite_utf8, &suite_turned, &suite_near,
	&suite_ahead, &suite_owner, &suite_yaml_bounds, &suite_cgroup_state,
	&suite_apart, &suite_http, &suite_produce, &suite_difference,
	&suite_threads, &suite_step_state, &suite_settings_file,
	&suite_service_unit, &suite_handed, &suite_cause, &suite_upgrade,
	&suite_growth, &suite_netlink, &suite_clients, &suite_words,
	&suite_rest, &suite_scratch, &suite_shrink, &suite_record,
	&suite_container_files, &suite_filter_file, NULL};

static void before(void)
{
	snprintf(unit_folder, sizeof(unit_folder), "/tmp/hull-unit-XXXXXX");
	if (!mkdtemp(unit_folder))
		abort();
	unit_folder_fd = open(unit_folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
}

static void after(void)
{
	struct th_error err = {0};

	th_close(&unit_folder_fd);
	if (th_tree_remove(AT_FDCWD, unit_folder, &err))
		CU_FAIL("the test's folder cannot be removed");
}

/* A program for another machine, run call by call on this one: some calls are
 * not passed on, or say something else. */
static bool is_emulated(void)
{
	return syscall(SYS_openat2, AT_FDCWD, ".", NULL, 0) < 0 &&
		errno == ENOSYS;
}

#define NO_OPENAT2 "the emulator does not have openat2"
static const struct skip under_emulation[] = {{"apply", NULL, NO_OPENAT2},
	{"path", "folders and files are made inside", NO_OPENAT2},
	{"image/borrow", "folders are listed, and links are none", NO_OPENAT2},
	{"memory", "layers survive it", NO_OPENAT2},
	{"memory", "packed files survive it", NO_OPENAT2},
	{"apart", NULL, "the emulator does not have seccomp"},
	{"filter", "any rules mean the same",
		"the library asks the kernel which actions there are"},
	{"sandbox/wall", "sockets are of the kinds that are let through",
		"the emulator does not have seccomp"},
	{"publish", "a free port is chosen and then taken",
		"/proc is that of the machine below"},
	{"resolve", NULL, "the images of these tests are for amd64"},
	{NULL, NULL, NULL}};

int main(int argc, char **argv)
{
	if (is_emulated())
		suites_skipped = under_emulation;
	return suites_run(suites, argc > 1 ? argv[1] : NULL, before, after);
}
