#include "registry/config.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>

#include "base/file.h"
#include "unit/unit.h"

static int read_text(
	const char *text, struct th_config *config, struct th_error *err)
{
	char path[128];

	th_file_replace(unit_folder_fd, "config.yaml", text, strlen(text), 0644,
		false, NULL);
	snprintf(path, sizeof(path), "%s/config.yaml", unit_folder);
	return th_config_read(path, config, err);
}

static void registries_are_read_and_replaced(void)
{
	struct th_config config = {0};
	struct th_error err = {0};
	const struct th_registry_config *entry;

	CHECK_INT(read_text("registries:\n"
			    "  - host: localhost:5000\n"
			    "    transport: http\n"
			    "    search: true\n"
			    "  - host: charts.example\n"
			    "    ca-file: /etc/ca.pem\n",
			  &config, &err),
		1);
	CHECK_INT(config.registry_count, 2);
	entry = th_config_find(&config, "localhost:5000");
	CHECK(entry && entry->transport == TH_TRANSPORT_HTTP && entry->search);
	CHECK_INT(read_text("registries:\n  - host: localhost:5000\n", &config,
			  &err),
		1);
	CHECK_INT(config.registry_count, 2);
	entry = th_config_find(&config, "localhost:5000");
	CHECK(entry && entry->transport == TH_TRANSPORT_HTTPS);
	CHECK(th_config_find(&config, "nowhere.example") == NULL);
	th_config_release(&config);
}

static void all_members_are_read(void)
{
	struct th_config config = {0};
	struct th_error err = {0};
	const struct th_registry_config *entry;

	CHECK_INT(read_text("registries:\n"
			    "  - host: charts.example\n"
			    "    cert-file: /etc/pilot.pem\n"
			    "    key-file: /etc/pilot.key\n"
			    "    mirrors: [one.example, two.example:5000]\n"
			    "    stall: 2m\n",
			  &config, &err),
		1);
	entry = th_config_find(&config, "charts.example");
	CHECK(entry && entry->mirrors_count == 2);
	if (entry && entry->mirrors_count == 2)
		CHECK_TEXT(entry->mirrors[1], "two.example:5000");
	CHECK(entry && entry->stall_us == 120000000);
	CHECK(entry && entry->cert_file && entry->key_file);
	th_config_release(&config);
}

static void mistakes_are_told_with_the_file(void)
{
	static const char *const bad[] = {"registries: 7\n",
		"registries:\n  - transport: http\n",
		"registries:\n  - host: a.example\n    transport: smoke\n",
		"registries:\n  - host: a.example\n    anchor: 1\n",
		"harbours: []\n", "registries:\n  - host: nodots\n",
		"registries: [\n", "\t",
		"registries:\n  - host: a.example\n    mirrors: [nodots]\n",
		"registries:\n  - host: a.example\n    mirrors: b.example\n",
		"registries:\n  - host: a.example\n    cert-file: /x\n",
		"registries:\n  - host: a.example\n    stall: soon\n",
		"registries:\n  - host: a.example\n    stall: 10ms\n",
		"registries:\n  - host: a.example\n    search: perhaps\n"};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_config config = {0};
		struct th_error err = {0};

		CHECK_INT(read_text(bad[i], &config, &err), -1);
		CHECK(strstr(err.msg, "config.yaml") != NULL);
		/* Only a file that ends too early has no line. */
		CHECK(strstr(err.msg, ", line ") != NULL || i == 1 || i == 6 ||
			i == 7);
		CHECK(err.hint[0] != '\0');
		th_config_release(&config);
	}
}

static void no_file_is_no_mistake(void)
{
	struct th_config config = {0};

	CHECK_INT(th_config_read("/nonexistent/config.yaml", &config, NULL), 0);
}

static void layers_are_borrowed_from_a_path(void)
{
	struct th_config config = {0};
	struct th_error err = {0};

	CHECK_INT(read_text("layers-from: /opt/layers\n", &config, &err), 1);
	CHECK_TEXT(config.layers_from, "/opt/layers");
	/* A later file wins. */
	CHECK_INT(read_text("layers-from: /srv/more\n", &config, &err), 1);
	CHECK_TEXT(config.layers_from, "/srv/more");
	CHECK_INT(read_text("keep-events: 50\nlayers-from: more\n", &config,
			  &err),
		-1);
	CHECK_INT(err.code, TH_USAGE);
	CHECK(strstr(err.msg, "line 2") != NULL);
	CHECK(strstr(err.msg, "begins with /") != NULL);
	th_config_release(&config);
}

static const CU_TestInfo tests[] = {
	{"registries are read and replaced", registries_are_read_and_replaced},
	{"all members are read", all_members_are_read},
	{"mistakes are told with the file", mistakes_are_told_with_the_file},
	{"no file is no mistake", no_file_is_no_mistake},
	{"layers are borrowed from a path", layers_are_borrowed_from_a_path},
	CU_TEST_INFO_NULL};

const struct suite suite_config = {"config", tests};
