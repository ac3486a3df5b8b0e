/* What registries do and do wrong: redirects, ranges, breaks, refusals,
 * mirrors, proxies, certificates; and an ordinary web server as one. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

static char images[600];

static void find_images(void)
{
	snprintf(images, sizeof(images), "%s/demo-images", world_build);
}

/* A pull that ends well, against a chandler with these options. */
static void pulls_well(const char *log, const char *options)
{
	struct result *result;
	int port;

	find_images();
	port = start_chandler(images, log, "%s", options);
	write_config(&port, 1);
	result = hull("pull selwick/gauge");
	if (result->code)
		printf("\n    %s: %s\n", options, result->err);
	CODE(result, 0);
	CODE(hull("run selwick/base --fetch missing -- true"), 0);
	CODE(hull("remove selwick/gauge selwick/base --quiet"), 0);
}

static void what_breaks_is_taken_up(void)
{
	pulls_well("one", "--fault drop=300000,times=2");
	/* What was on its way when it broke may be lost with it. */
	CHECK(count_lines_with("one", "/blobs/", " 206 range=bytes=") > 0);
	CHECK_INT(count_lines_with("one", "/blobs/", " 416 "), 0);
	pulls_well("two", "--no-ranges --fault drop=300000,times=2");
	CHECK_INT(count_lines_with("two", "/blobs/", " 206"), 0);
	pulls_well("three", "--fault drop=0,times=3");
	pulls_well("four", "--fault drop=20,times=1,path=/manifests/");
}

static void what_passes_is_waited_for(void)
{
	pulls_well("one", "--fault status=503,times=2");
	CHECK_INT(count_lines_with("one", " 503", ""), 2);
	pulls_well("two", "--fault status=429,times=1,retry=1,path=/v2/");
	CHECK_INT(count_lines_with("two", " 429", ""), 1);
	pulls_well("three", "--fault status=500,times=1,path=/manifests/");
}

/* What has come is asked for no more, however little it was: by this pull and
 * by the next one. */
static void no_byte_comes_twice(void)
{
	struct result *result;
	char layer[100];
	int port;

	find_images();
	copy_images("copy");
	snprintf(layer, sizeof(layer), "%s",
		layout_layer("copy", "selwick/gauge:latest", 0));
	pulls_well("one", "--fault drop=700,times=3");
	CHECK_INT(count_lines_with("one", "/blobs/", "range=bytes=0-"), 0);
	CHECK(count_lines_with("one", "range=bytes=700-", " 206") > 0);
	/* It breaks for good, and the command ends. */
	port = start_chandler(
		images, "two", "--fault drop=5000,path=%s", layer);
	write_config(&port, 1);
	CODE(hull("pull selwick/gauge"), 6);
	CHECK_INT(count_lines_with("two", layer, " 200"), 1);
	CHECK_INT(count_lines_with("two", layer, "range=bytes=5000-"), 1);
	/* Without it: only the rest. */
	port = start_chandler(images, "three", "%s", "");
	write_config(&port, 1);
	result = hull("pull selwick/gauge");
	CODE(result, 0);
	CHECK_INT(count_lines_with("three", layer, " 200"), 0);
	CHECK_INT(count_lines_with("three", layer, "range=bytes=25000-"), 1);
	/* The layers that came whole do not come again. */
	CHECK_INT(count_lines_with("three", "/blobs/", " 206"), 1);
	CODE(hull("run selwick/base --fetch missing -- true"), 0);
}

/* A first accident is not the end, whatever it hits. */
static void a_first_wrong_one_is_tried_once_more(void)
{
	static const char *const faults[] = {
		"corrupt", "length=-9", "length=100"};
	char layer[100], config[100], manifest[100], option[200];
	json_t *doc;
	int port;

	find_images();
	copy_images("copy");
	snprintf(layer, sizeof(layer), "%s",
		layout_layer("copy", "selwick/gauge:latest", 1));
	snprintf(manifest, sizeof(manifest), "%s",
		layout_digest("copy", "selwick/gauge:latest"));
	doc = layout_get("copy", manifest);
	snprintf(config, sizeof(config), "%s",
		json_string_value(json_object_get(
			json_object_get(doc, "config"), "digest")));
	json_decref(doc);
	for (size_t i = 0; i < COUNT_OF(faults); i++) {
		snprintf(option, sizeof(option), "--fault %s,times=1,path=%s",
			faults[i], layer);
		pulls_well("one", option);
		snprintf(option, sizeof(option), "--fault %s,times=1,path=%s",
			faults[i], config);
		pulls_well("two", option);
	}
	snprintf(option, sizeof(option), "--fault corrupt,times=1,path=%s",
		manifest);
	pulls_well("three", option);
	/* Twice is not. */
	snprintf(option, sizeof(option), "--fault corrupt,times=2,path=%s",
		layer);
	port = start_chandler(images, NULL, "%s", option);
	write_config(&port, 1);
	CODE(hull("pull selwick/gauge"), 6);
}

/* All threads of a pull keep still when one of them is told to wait: also the
 * one whose own transfer has only broken. (chandler notes who does not, but for
 * what may have been on its way.) */
static void a_pause_is_for_all_requests(void)
{
	char option[400], first[100];

	find_images();
	copy_images("copy");
	snprintf(first, sizeof(first), "%s",
		layout_layer("copy", "selwick/gauge:latest", 1));
	snprintf(option, sizeof(option),
		"--fault status=429,times=1,retry=4,path=%s --fault "
		"drop=1000,times=3,path=%s",
		first, layout_layer("copy", "selwick/gauge:latest", 0));
	pulls_well("log", option);
	CHECK_INT(count_lines_with("log", " 429", ""), 1);
	CHECK(count_lines_with("log", "range=bytes=", " 206") >= 3);
	CHECK_INT(count_lines_with("log", " early", ""), 0);
}

static void what_stays_is_told(void)
{
	static const struct {
		const char *fault, *says;
	} cases[] = {{"status=500", "answered 500"},
		{"status=429,retry=7200", "limits the rate of requests"},
		{"drop=100", "the transfer with"},
		{"corrupt", "does not match the manifest"},
		{"length=-5", "bytes instead of"},
		{"length=100", "larger than the manifest says"},
		{"status=403", "does not allow"}};
	char layer[100];

	find_images();
	copy_images("copy");
	snprintf(layer, sizeof(layer), "%s",
		layout_layer("copy", "selwick/gauge:latest", 0));
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		int port = start_chandler(images, NULL, "--fault %s,path=%s",
			cases[i].fault, layer);
		struct result *result;

		write_config(&port, 1);
		result = hull("pull selwick/gauge");
		CODE(result, 6);
		SAYS(result->err, "layer 1 of 3");
		SAYS(result->err, cases[i].says);
		SAYS(hull("list images")->out, "there are no images");
		CHECK_TEXT(other("find store/trees store/tmp -mindepth 1")->out,
			"");
	}
	/* What was right is kept for the next pull, and what was wrong is not.
	 */
	CODE(hull("sweep --yes"), 0);
	CHECK_TEXT(other("find store/partial -mindepth 1")->out, "");
}

static void a_stall_is_not_waited_for_long(void)
{
	struct result *result;
	char text[400];
	int port;

	find_images();
	port = start_chandler(images, "log", "--fault stall=1000,times=1");
	snprintf(text, sizeof(text),
		"registries:\n  - host: localhost:%d\n    transport: http\n"
		"    search: true\n    stall: 1s\n",
		port);
	put_file("config.yaml", text);
	result = hull("pull selwick/gauge");
	CODE(result, 0);
	CHECK_INT(count_lines_with("log", "range=bytes=1000-", "206"), 1);
}

static void credentials_go_to_the_registry_only(void)
{
	struct result *result;
	int store, front;

	find_images();
	put_file("people", "pilot fairwinds\n");
	store = start_chandler(images, "depot", "%s", "");
	front = start_chandler(images, "front",
		"--auth basic --login people --redirect http://localhost:%d",
		store);
	write_config(&front, 1);
	result = hull_input("fairwinds\n", 10,
		"login localhost:%d --user pilot --password @stdin", front);
	CODE(result, 0);
	CODE(hull("pull selwick/gauge"), 0);
	CHECK(count_lines_with("front", "/blobs/", "307 authorized") > 0);
	CHECK(count_lines_with("depot", "/blobs/", " 200") > 0);
	CHECK_INT(count_lines_with("depot", "authorized", ""), 0);
}

static void mirrors_are_tried_in_order(void)
{
	struct result *result;
	char text[900];
	int good, bad, own;

	find_images();
	good = start_chandler(images, "good", "%s", "");
	bad = start_chandler(images, "bad", "--fault corrupt");
	own = start_chandler(images, "own", "%s", "");
	snprintf(text, sizeof(text),
		"registries:\n"
		"  - host: localhost:%d\n    transport: http\n"
		"    mirrors: [localhost:1, localhost:%d]\n"
		"  - host: localhost:%d\n    transport: http\n"
		"  - host: localhost:1\n    transport: http\n",
		own, good, good);
	put_file("config.yaml", text);
	result = hull("pull localhost:%d/selwick/gauge", own);
	CODE(result, 0);
	snprintf(text, sizeof(text), "from localhost:%d", good);
	SAYS(result->out, text);
	SAYS(result->err, "note: skipped localhost:1");
	CHECK_INT(count_lines_with("own", "GET", ""), 0);
	/* It keeps the registry's name, not the mirror's. */
	snprintf(text, sizeof(text), "localhost:%d/selwick/gauge", own);
	SAYS(hull("list images")->out, text);
	CODE(hull("remove selwick/gauge"), 0);

	/* One that gives something wrong is not believed. */
	snprintf(text, sizeof(text),
		"registries:\n"
		"  - host: localhost:%d\n    transport: http\n"
		"    mirrors: [localhost:%d]\n"
		"  - host: localhost:%d\n    transport: http\n",
		own, bad, bad);
	put_file("config.yaml", text);
	result = hull("pull localhost:%d/selwick/gauge", own);
	CODE(result, 0);
	SAYS(result->err, "the image's config does not match");
	CHECK(count_lines_with("own", "/blobs/", " 200") > 0);
}

static void a_proxy_of_the_environment_is_used(void)
{
	struct result *result;
	int port;

	find_images();
	port = start_chandler(images, "log", "%s", "");
	put_file("config.yaml",
		"registries:\n  - host: charts.example\n"
		"    transport: http\n");
	result = other("env http_proxy=http://127.0.0.1:%d %s/tidyhull pull "
		       "charts.example/selwick/gauge",
		port, world_build);
	CODE(result, 0);
	CHECK(count_lines_with("log", "/v2/selwick/gauge/", "200") > 0);
	result = other("env http_proxy=http://127.0.0.1:%d no_proxy=.example "
		       "%s/tidyhull pull charts.example/selwick/gauge:1",
		port, world_build);
	CODE(result, 6);
}

/* ---- certificates ---- */

static void make_certificates(void)
{
	put_file("make-keys",
		"set -e\n"
		"new() { openssl req -newkey ec -pkeyopt "
		"ec_paramgen_curve:prime256v1 -nodes -keyout $1.key -out "
		"$1.csr "
		"-subj /CN=$1 2>/dev/null; }\n"
		"openssl req -x509 -newkey ec -pkeyopt "
		"ec_paramgen_curve:prime256v1 -nodes -keyout ca.key -out "
		"ca.pem "
		"-subj '/CN=Port Selwick' -days 2 2>/dev/null\n"
		"new server; new pilot\n"
		"printf 'subjectAltName=DNS:localhost,IP:127.0.0.1' >names\n"
		"for one in server pilot; do openssl x509 -req -in $one.csr "
		"-CA ca.pem -CAkey ca.key -CAcreateserial -days 2 "
		"-extfile names -out $one.pem 2>/dev/null; done\n");
	CODE(other("sh make-keys"), 0);
}

static void write_tls_config(int port, const char *more)
{
	char text[1200];

	snprintf(text, sizeof(text),
		"registries:\n  - host: localhost:%d\n    search: true\n%s",
		port, more);
	put_file("config.yaml", text);
}

static void certificates_are_verified(void)
{
	struct result *result;
	char more[700];
	int port;

	find_images();
	make_certificates();
	port = start_chandler(
		images, NULL, "--tls-cert server.pem --tls-key server.key");
	write_tls_config(port, "");
	result = hull("pull selwick/gauge");
	CODE(result, 6);
	SAYS(result->err, "certificate");
	SAYS(result->err, "ca-file");
	snprintf(more, sizeof(more), "    ca-file: %s/ca.pem\n", world_folder);
	write_tls_config(port, more);
	CODE(hull("pull selwick/gauge"), 0);
	snprintf(
		more, sizeof(more), "    ca-file: %s/none.pem\n", world_folder);
	write_tls_config(port, more);
	result = hull("pull selwick/almanac");
	CODE(result, 6);
	SAYS(result->err, "ca-file");
}

static void a_clients_certificate_opens(void)
{
	char more[900];
	int port;

	find_images();
	make_certificates();
	port = start_chandler(images, NULL,
		"--tls-cert server.pem --tls-key server.key --client-ca "
		"ca.pem");
	snprintf(more, sizeof(more), "    ca-file: %s/ca.pem\n", world_folder);
	write_tls_config(port, more);
	CODE(hull("pull selwick/gauge"), 6);
	snprintf(more, sizeof(more),
		"    ca-file: %s/ca.pem\n    cert-file: %s/pilot.pem\n"
		"    key-file: %s/pilot.key\n",
		world_folder, world_folder, world_folder);
	write_tls_config(port, more);
	CODE(hull("pull selwick/gauge"), 0);
}

/* ---- an ordinary web server ---- */

static bool listens(void *arg)
{
	return fetch("127.0.0.1", *(int *)arg, "/plain") != NULL;
}

static void a_web_server_is_a_registry_too(void)
{
	const int port = 18443;
	int plain = 18080;
	struct result *result;
	char text[3000], more[300];
	pid_t server;

	find_images();
	make_certificates();
	snprintf(text, sizeof(text),
		"set -e\n"
		"cat server.key server.pem >both.pem\n"
		"root=www/v2/selwick/gauge\n"
		"mkdir -p $root/manifests $root/blobs\n"
		"touch www/plain\n"
		"digest=$(python3 -c \"import json;print([m['digest'] for m in "
		"json.load(open('%s/index.json'))['manifests'] if "
		"m['annotations']['org.opencontainers.image.ref.name']=="
		"'selwick/gauge:latest'][0])\")\n"
		"cp %s/blobs/sha256/${digest#*:} $root/manifests/latest\n"
		"cp $root/manifests/latest $root/manifests/$digest\n"
		"for blob in %s/blobs/sha256/*; do cp $blob "
		"$root/blobs/sha256:${blob##*/}; done\n",
		images, images, images);
	put_file("make-tree", text);
	CODE(other("sh make-tree"), 0);
	snprintf(text, sizeof(text),
		"server.document-root = \"%s/www\"\n"
		"server.bind = \"127.0.0.1\"\nserver.port = %d\n"
		"server.modules = (\"mod_openssl\", \"mod_accesslog\")\n"
		"accesslog.filename = \"%s/access\"\n"
		"accesslog.format = \"%%H %%s %%U\"\n"
		"$SERVER[\"socket\"] == \"127.0.0.1:%d\" {\n"
		"  ssl.engine = \"enable\"\n  ssl.pemfile = \"%s/both.pem\"\n"
		"}\n",
		world_folder, plain, world_folder, port, world_folder);
	put_file("lighttpd.conf", text);
	server = other_start("out", "/usr/sbin/lighttpd -D -f lighttpd.conf");
	CHECK(wait_until(listens, &plain));
	snprintf(more, sizeof(more), "    ca-file: %s/ca.pem\n", world_folder);
	write_tls_config(port, more);
	result = hull("pull localhost:%d/selwick/gauge", port);
	CODE(result, 0);
	SAYS(result->out, "3 of 3 layers");
	CODE(hull("peek localhost:%d/selwick/gauge", port), 0);
	result = hull("pull localhost:%d/selwick/gauge:9", port);
	CODE(result, 3);
	signal_to(server, SIGTERM);
	wait_for(server);
	/* Where a server can, it is spoken to in the newer way. */
	CHECK(count_lines_with("access", "HTTP/2.0 200", "/blobs/") >= 4);
}

static const CU_TestInfo tests[] = {
	{"what breaks is taken up", what_breaks_is_taken_up},
	{"what passes is waited for", what_passes_is_waited_for},
	{"no byte comes twice", no_byte_comes_twice},
	{"a first wrong one is tried once more",
		a_first_wrong_one_is_tried_once_more},
	{"a pause is for all requests", a_pause_is_for_all_requests},
	{"what stays is told", what_stays_is_told},
	{"a stall is not waited for long", a_stall_is_not_waited_for_long},
	{"credentials go to the registry only",
		credentials_go_to_the_registry_only},
	{"mirrors are tried in order", mirrors_are_tried_in_order},
	{"a proxy of the environment is used",
		a_proxy_of_the_environment_is_used},
	{"certificates are verified", certificates_are_verified},
	{"a client's certificate opens", a_clients_certificate_opens},
	{"a web server is a registry too", a_web_server_is_a_registry_too},
	CU_TEST_INFO_NULL};

const struct suite suite_registry = {"registry", tests};
