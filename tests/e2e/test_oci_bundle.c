/* Bundles that are made of images: valid by the specification's schema, and the
 * same program inside. */
#include <jansson.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

#define SPECS                                                                  \
	"/usr/share/gocode/src/github.com/opencontainers/runtime-spec/schema"

static struct result *run_bundle(const char *name)
{
	return hull("oci run --root %s/oci --bundle %s/%s %s", world_folder,
		world_folder, name, name);
}

static json_t *read_config(const char *name)
{
	char path[300];
	json_t *doc;

	snprintf(path, sizeof(path), "%s/%s/config.json", world_folder, name);
	doc = json_load_file(path, 0, NULL);
	CHECK(doc != NULL);
	return doc;
}

static bool is_left(void)
{
	return strstr(hull("list --all")->out, "no containers") == NULL;
}

static void it_is_valid_and_runs(void)
{
	struct result *result;
	json_t *doc;

	CODE(hull("oci bundle selwick/base %s/one --env TIDE=high "
		  "--workdir /tmp --read-only -- sh -c 'echo $TIDE; pwd; "
		  "touch /x || exit 7'",
		     world_folder),
		0);
	CODE(other("/usr/bin/python3 %s/../tests/e2e/validate.py " SPECS
		   "/config-schema.json one/config.json",
		     world_build),
		0);
	result = run_bundle("one");
	CODE(result, 7);
	SAYS(result->out, "high\n/tmp\n");
	CHECK(!is_left());
	doc = read_config("one");
	CHECK_TEXT(json_string_value(
			   json_object_get(json_object_get(doc, "annotations"),
				   "org.opencontainers.image.os")),
		"linux");
	/* Nothing in it is the store's. */
	CHECK(!strstr(other("cat one/config.json")->out, world_store));
	json_decref(doc);
}

/* What the image says of itself, by the rules of the image specification. */
static void the_image_is_described(void)
{
	json_t *doc, *notes;

	put_file("recipe.yaml",
		"image: selwick/mine:1\n"
		"from: selwick/base\n"
		"labels: {example.selwick/berth: north}\n"
		"settings:\n"
		"  port: [8080, 53/udp]\n"
		"  stop: signal=INT\n"
		"  user: '1000'\n"
		"  command: [id, -u]\n");
	CODE(hull("build recipe.yaml"), 0);
	CODE(hull("oci bundle selwick/mine:1 %s/two", world_folder), 0);
	doc = read_config("two");
	notes = json_object_get(doc, "annotations");
	CHECK_TEXT(json_string_value(
			   json_object_get(notes, "example.selwick/berth")),
		"north");
	CHECK_TEXT(json_string_value(json_object_get(
			   notes, "org.opencontainers.image.exposedPorts")),
		"53/udp,8080/tcp");
	CHECK_TEXT(json_string_value(json_object_get(
			   notes, "org.opencontainers.image.stopSignal")),
		"SIGINT");
	json_decref(doc);
	/* The caller is the program's user inside, whoever that is. */
	CHECK_TEXT(run_bundle("two")->out, "1000\n");
}

static void the_network_is_the_hosts_or_none(void)
{
	char here[64], inside[64];

	CODE(hull("oci bundle selwick/base %s/host -- readlink "
		  "/proc/self/ns/net",
		     world_folder),
		0);
	CODE(hull("oci bundle selwick/base %s/none --network none --hostname "
		  "berth -- sh -c 'readlink /proc/self/ns/net; hostname'",
		     world_folder),
		0);
	snprintf(here, sizeof(here), "%.60s",
		other("readlink /proc/self/ns/net")->out);
	CHECK_TEXT(run_bundle("host")->out, here);
	snprintf(inside, sizeof(inside), "%.60s", run_bundle("none")->out);
	CHECK(strncmp(here, inside, strlen(here)) != 0);
	SAYS(run_bundle("none")->out, "\nberth\n");
}

static void wrong_ones_are_refused(void)
{
	struct result *result;

	CODE(other("mkdir full"), 0);
	put_file("full/x", "x");
	CODE(hull("oci bundle selwick/base %s/full", world_folder), 4);
	CODE(other("ls full/x"), 0);
	result = hull("oci bundle selwick/base %s/a --mount /d=volume:v",
		world_folder);
	CODE(result, 2);
	SAYS(result->err, "is a volume");
	CODE(hull("oci bundle selwick/base %s/a --network quayside",
		     world_folder),
		2);
	CODE(hull("oci bundle selwick/base %s/a --mount /d=/nosuch",
		     world_folder),
		3);
	CODE(hull("oci bundle selwick/nosuch %s/a --fetch never", world_folder),
		3);
	CODE(hull("oci bundle selwick/base"), 2);
	CODE(hull("oci bundle selwick/base %s/full/x/y", world_folder), 1);
	result = hull("oci state --env A=1 x");
	CODE(result, 2);
	SAYS(result->err, "does not take --env");
	CODE(hull("oci state x -- true"), 2);
	CODE(other("test ! -e a"), 0);
	CHECK(!is_left());
}

static bool has_root(void *arg)
{
	char path[300];

	(void)arg;
	snprintf(path, sizeof(path), "%s/cut/rootfs", world_folder);
	return access(path, F_OK) == 0;
}

static bool nothing_is_left(void *arg)
{
	(void)arg;
	return !is_left();
}

/* What has a config.json is whole; the container that it is read from goes. */
static void one_that_is_killed_leaves_nothing_in_the_store(void)
{
	pid_t pid = hull_start(
		"said", "oci bundle selwick/ledger %s/cut", world_folder);

	CHECK(wait_until(has_root, NULL));
	signal_to(pid, SIGKILL);
	wait_for(pid);
	/* Its copier hears of it a moment later. */
	CHECK(wait_until(nothing_is_left, NULL));
	CODE(hull("doctor --verify"), 0);
	CODE(other("sh -c 'test ! -e cut/config.json || test -e "
		   "cut/rootfs/bin'"),
		0);
}

static const CU_TestInfo tests[] = {
	{"it is valid and runs", it_is_valid_and_runs},
	{"the image is described", the_image_is_described},
	{"the network is the host's or none", the_network_is_the_hosts_or_none},
	{"wrong ones are refused", wrong_ones_are_refused},
	{"one that is killed", one_that_is_killed_leaves_nothing_in_the_store},
	CU_TEST_INFO_NULL};

const struct suite suite_oci_bundle = {"oci-bundle", tests};
