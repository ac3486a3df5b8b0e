/* What unit tests share: the list of suites, and a fresh folder each. */
#ifndef TESTS_UNIT_H
#define TESTS_UNIT_H

#include "lib/suite.h"

extern const struct suite suite_buffer, suite_clock, suite_path, suite_file,
	suite_json, suite_reference, suite_manifest, suite_image_config,
	suite_bundle, suite_inflate, suite_apply, suite_tar, suite_cdi,
	suite_log, suite_settings, suite_user, suite_publish, suite_subnet,
	suite_network_state, suite_resolver, suite_config, suite_database,
	suite_blob, suite_container_state, suite_image_state, suite_headers,
	suite_token, suite_search, suite_logins, suite_stage, suite_lender,
	suite_borrow, suite_memory, suite_hash, suite_image_model, suite_packed,
	suite_policy, suite_types, suite_runtime_record, suite_mount_options,
	suite_wall, suite_relay, suite_life, suite_plan, suite_machine,
	suite_resolve, suite_calls, suite_filter, suite_utf8, suite_turned,
	suite_near, suite_ahead, suite_owner, suite_yaml_bounds,
	suite_cgroup_state, suite_apart, suite_http, suite_produce,
	suite_difference, suite_threads, suite_step_state, suite_settings_file,
	suite_service_unit, suite_handed, suite_cause, suite_upgrade,
	suite_growth, suite_netlink, suite_clients, suite_words, suite_rest,
	suite_scratch, suite_shrink, suite_record, suite_container_files,
	suite_filter_file;

/* The fresh folder of the running test, and its descriptor. */
extern char unit_folder[64];
extern int unit_folder_fd;

#endif
