/* The end-to-end tests: they drive the built programs as a person does. */
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/host_model.h"
#include "e2e/shapes.h"
#include "e2e/world.h"

extern const struct suite suite_pull, suite_create, suite_launch, suite_run,
	suite_exec, suite_stop, suite_look, suite_remove, suite_recreate,
	suite_group, suite_crash, suite_full, suite_doctor, suite_faults,
	suite_library, suite_steps, suite_formats, suite_words, suite_registry,
	suite_access, suite_images, suite_packed, suite_push, suite_peek,
	suite_endurance, suite_layers, suite_json_forms, suite_pause,
	suite_processes, suite_mistakes, suite_book, suite_complete,
	suite_bundle, suite_limits, suite_escape, suite_runtime, suite_oci_run,
	suite_oci_bundle, suite_network_home, suite_share, suite_job,
	suite_life, suite_probe, suite_logs, suite_sessions, suite_attach,
	suite_copy, suite_why, suite_model, suite_many, suite_systemd,
	suite_tables, suite_pictures, suite_unit, suite_volumes,
	suite_settings_inside, suite_ports, suite_names, suite_networks,
	suite_connections, suite_calls, suite_intruder, suite_foreign_text,
	suite_users, suite_stacks, suite_documents, suite_musts, suite_servers,
	suite_changes, suite_capture, suite_build, suite_runnable, suite_borrow,
	suite_slips, suite_network_traces;

static const struct suite *const suites[] = {&suite_words, &suite_mistakes,
	&suite_book, &suite_slips, &suite_complete, &suite_pull,
	&suite_registry, &suite_access, &suite_peek, &suite_images,
	&suite_packed, &suite_push, &suite_borrow, &suite_layers, &suite_stacks,
	&suite_changes, &suite_capture, &suite_build, &suite_runnable,
	&suite_documents, &suite_endurance, &suite_create, &suite_launch,
	&suite_run, &suite_exec, &suite_stop, &suite_pause, &suite_processes,
	&suite_look, &suite_remove, &suite_recreate, &suite_group, &suite_crash,
	&suite_steps, &suite_full, &suite_doctor, &suite_faults, &suite_library,
	&suite_formats, &suite_bundle, &suite_limits, &suite_escape,
	&suite_users, &suite_calls, &suite_intruder, &suite_runtime,
	&suite_oci_run, &suite_oci_bundle, &suite_network_home, &suite_share,
	&suite_job, &suite_musts, &suite_life, &suite_probe, &suite_logs,
	&suite_sessions, &suite_attach, &suite_copy, &suite_why, &suite_model,
	&suite_many, &suite_systemd, &suite_tables, &suite_pictures,
	&suite_unit, &suite_volumes, &suite_settings_inside, &suite_ports,
	&suite_names, &suite_networks, &suite_network_traces,
	&suite_connections, &suite_foreign_text, &suite_json_forms, NULL};

/* Only where somebody asks for them: they need an image of their own. */
static const struct suite *const asked[] = {&suite_servers, NULL};

/* What only root can do, or what is done the same by everybody. */
#define ROOTS_ONLY                                                             \
	{"users", "root is nobody outside", THE_USER},                         \
		{"borrow", "root borrows nothing", THE_USER},                  \
		{"users", "files keep their owners", THE_USER},                \
		{"users", "what is the host's is told", THE_USER},             \
		{"users", "a file system that cannot is told", THE_USER},      \
		{"runtime", "a group that was there stays",                    \
			"the group is the host's"},                            \
		{"networks", "an outside client keeps its address",            \
			"users have no packet filter of the host"},            \
		{"network-traces", "guards of the killed go",                  \
			"users have no packet filter of the host"},            \
		{"network-traces", "a bridge stays for a moment",              \
			"a user's bridges go with the pilot"},                 \
		{"network-traces", "a bridge that is to go is no finding",     \
			"a user's bridges go with the pilot"},                 \
		{"network-traces", "rules go with their network",              \
			"a user's bridges go with the pilot"},                 \
		{"network-traces", "a device of the killed is taken over",     \
			"a user's bridges go with the pilot"},                 \
		{"networks", "rules of others stay",                           \
			"users have no packet filter of the host"},            \
	{                                                                      \
		"layers", "what tar can hold comes out",                       \
			"making the archive takes mknod and chown"             \
	}
#define THE_USER "a user's root is the user already"
#define NO_CONTROLLER "no controller is given to users here"

static const struct skip for_user[] = {ROOTS_ONLY,
	{"job", "a limit beyond it is told", NO_CONTROLLER},
	{"limits", "memory is bounded and the reason told", NO_CONTROLLER},
	{"limits", "programs see their limit", NO_CONTROLLER},
	{"limits", "processes are bounded", NO_CONTROLLER},
	{"limits", "processes are bounded by default", NO_CONTROLLER},
	{"limits", "cpu time is bounded", NO_CONTROLLER},
	{"limits", "adjust changes the living and what comes", NO_CONTROLLER},
	{NULL, NULL, NULL}};

/* On hosts that give them controllers. */
static const struct skip for_user_with_controllers[] = {ROOTS_ONLY,
	{"limits", "what cannot be limited is told",
		"controllers are given to users here"},
	{NULL, NULL, NULL}};

/* What is about those who are not root. */
static const struct skip for_root[] = {
	{"networks", "a lost pilot is told", "root needs no pilot"},
	{"networks", "a pilot without a socket is found",
		"root needs no pilot"},
	{"users", "a network apart is told", "root is not apart"},
	{"crash", "another environment finds it", "root has one store"},
	{"borrow", "nothing is unpacked", "root borrows nothing"},
	{"borrow", "what is missing there is unpacked", "root borrows nothing"},
	{"borrow", "it can be set for all", "root borrows nothing"},
	{"borrow", "an unsafe one is refused", "root borrows nothing"},
	{"borrow", "one that is gone is told and replaced",
		"root borrows nothing"},
	{"borrow", "odd layers are borrowed too", "root borrows nothing"},
	{"borrow", "death and refusal at any call", "root borrows nothing"},
	{"network-home", "the usual one is the host's own",
		"root has one store"},
	{"escape", "a run folder of others is refused",
		"root's run folder is in /run"},
	{"escape", "a pilot is nothing to take over", "root needs no pilot"},
	{"limits", "what cannot be limited is told", "root has controllers"},
	{"job", "no scope is asked for", "root may make groups itself"},
	{"systemd", "a scope is asked for", "root may make groups itself"},
	{"systemd", "networks have a scope", "root needs no pilot"},
	{"systemd", "none is no obstacle", "root may make groups itself"},
	{NULL, NULL, NULL}};

int main(int argc, char **argv)
{
	const char *only;
	int code;
	bool user = argc > 2 && strcmp(argv[2], "--user") == 0;

	suites_skipped = for_root;
	if (user) {
		world_user = WORLD_USER;
		suites_skipped = for_user;
		argv[2] = argv[1];
		argv++;
		argc--;
	}
	if (argc < 2) {
		fputs("e2e BUILD [--user] [SUITE]\n", stderr);
		return 2;
	}
	if (geteuid() != 0) {
		fputs("e2e: these tests need root: they make namespaces\n",
			stderr);
		return 1;
	}
	/* A command that does not read its input must not end the tests. */
	signal(SIGPIPE, SIG_IGN);
	world_enter(argv[1]);
	if (user && world_has_controllers())
		suites_skipped = for_user_with_controllers;
	host_model_take();
	only = argc > 2 ? argv[2] : NULL;
	code = suites_run(
		only && strcmp(only, asked[0]->name) == 0 ? asked : suites,
		only, world_begin, world_end);
	if (shapes_check(argv[1]))
		code = 1;
	if (host_model_compare())
		code = 1;
	world_leave();
	return code;
}
