#include "oci/image_config.h"

#include <string.h>

#include "unit/unit.h"

#define D64 "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"
#define ROOTFS                                                                 \
	"\"rootfs\":{\"type\":\"layers\",\"diff_ids\":[\"sha256:" D64 "\"]}"

static void a_config_is_read(void)
{
	static const char text[] =
		"{\"architecture\":\"amd64\",\"os\":\"linux\",\"config\":{"
		"\"User\":\"pilot\",\"Env\":[\"A=1\"],\"Cmd\":[\"sh\"],"
		"\"Entrypoint\":[\"/bin/x\",\"-y\"],\"WorkingDir\":\"/srv\","
		"\"ExposedPorts\":{\"80/tcp\":{}},\"Volumes\":{\"/data\":{}},"
		"\"StopSignal\":\"SIGINT\"}," ROOTFS "}";
	struct th_image_config config;
	struct th_error err = {0};

	CHECK_INT(th_image_config_parse(text, strlen(text), &config, &err), 0);
	CHECK_TEXT(config.user, "pilot");
	CHECK_TEXT(config.entrypoint.items[1], "-y");
	CHECK_TEXT(config.ports.items[0], "80/tcp");
	CHECK_TEXT(config.volumes.items[0], "/data");
	CHECK_TEXT(config.stop_signal, "SIGINT");
	CHECK_INT(config.diff_ids.count, 1);
	th_image_config_release(&config);
}

static void little_is_enough_and_nulls_are_nothing(void)
{
	static const char text[] = "{\"config\":{\"Env\":null,\"Cmd\":null,"
				   "\"User\":\"\"}," ROOTFS "}";
	struct th_image_config config;

	CHECK_INT(th_image_config_parse(text, strlen(text), &config, NULL), 0);
	CHECK(config.user == NULL);
	CHECK_INT(config.command.count, 0);
	th_image_config_release(&config);
}

static void wrong_configs_are_refused(void)
{
	static const char *const bad[] = {"{}", "{\"rootfs\":{}}x",
		"{\"rootfs\":{\"diff_ids\":[\"x\"]}}",
		"{\"config\":{\"Env\":\"A\"}," ROOTFS "}",
		"{\"config\":{\"Cmd\":[1]}," ROOTFS "}",
		"{\"os\":7," ROOTFS "}",
		"{\"os\":\"0123456789012345678901234567890123456789\"," ROOTFS
		"}"};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_image_config config;
		struct th_error err = {0};

		CHECK_INT(th_image_config_parse(
				  bad[i], strlen(bad[i]), &config, &err),
			-1);
		CHECK(err.msg[0] != '\0');
	}
}

static const CU_TestInfo tests[] = {{"a config is read", a_config_is_read},
	{"little is enough", little_is_enough_and_nulls_are_nothing},
	{"wrong configs are refused", wrong_configs_are_refused},
	CU_TEST_INFO_NULL};

const struct suite suite_image_config = {"image config", tests};
