/* chandler: a stand-in registry for the demo and the tests. Serves an OCI
 * image layout read-only over the OCI Distribution API:
 *
 *   GET, HEAD  /v2/
 *   GET, HEAD  /v2/NAME/manifests/TAG or DIGEST
 *   GET, HEAD  /v2/NAME/blobs/DIGEST
 *   GET        /v2/NAME/tags/list
 */
#include <arpa/inet.h>
#include <errno.h>
#include <getopt.h>
#include <microhttpd.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "chandler/layout.h"

struct served {
	struct layout layout;
	bool verbose;
};

static enum MHD_Result reply(struct MHD_Connection *connection,
	unsigned int status, const char *type, const char *text)
{
	struct MHD_Response *response = MHD_create_response_from_buffer(
		strlen(text), (void *)(uintptr_t)text, MHD_RESPMEM_MUST_COPY);
	enum MHD_Result rc;

	MHD_add_response_header(response, "Content-Type", type);
	rc = MHD_queue_response(connection, status, response);
	MHD_destroy_response(response);
	return rc;
}

/* The specification's form of an error (spec.md, "Error Codes"). */
static enum MHD_Result reply_error(struct MHD_Connection *connection,
	unsigned int status, const char *code, const char *message)
{
	char text[256];

	snprintf(text, sizeof(text),
		"{\"errors\":[{\"code\":\"%s\",\"message\":\"%s\"}]}", code,
		message);
	return reply(connection, status, "application/json", text);
}

static enum MHD_Result reply_file(struct MHD_Connection *connection,
	const struct layout *layout, const char *digest, const char *type)
{
	struct MHD_Response *response;
	enum MHD_Result rc;
	uint64_t size;
	int fd = layout_open_blob(layout, digest, &size);

	if (fd < 0)
		return reply_error(connection, MHD_HTTP_NOT_FOUND,
			"BLOB_UNKNOWN", "there is no such blob here");
	response = MHD_create_response_from_fd64(size, fd);
	if (!response) {
		close(fd);
		return MHD_NO;
	}
	MHD_add_response_header(response, "Content-Type", type);
	rc = MHD_queue_response(connection, MHD_HTTP_OK, response);
	MHD_destroy_response(response);
	return rc;
}

static enum MHD_Result reply_manifest(struct MHD_Connection *connection,
	const struct layout *layout, const char *name, const char *wanted)
{
	char digest[TH_DIGEST_TEXT], type[128];

	if (!layout_find(layout, name, wanted, digest, type))
		return reply_error(connection, MHD_HTTP_NOT_FOUND,
			"MANIFEST_UNKNOWN", "there is no such manifest here");
	return reply_file(connection, layout, digest, type);
}

static enum MHD_Result reply_tags(struct MHD_Connection *connection,
	const struct layout *layout, const char *name)
{
	enum MHD_Result rc;
	char *text = layout_tags(layout, name);

	if (!text)
		return reply_error(connection, MHD_HTTP_NOT_FOUND,
			"NAME_UNKNOWN", "there is no such name here");
	rc = reply(connection, MHD_HTTP_OK, "application/json", text);
	free(text);
	return rc;
}

/* Splits "/v2/NAME/KIND/REST", where NAME may hold slashes. */
static bool split(char *path, char **name, char **kind, char **rest)
{
	char *last = strrchr(path, '/');

	if (strncmp(path, "/v2/", 4) != 0 || !last || last == path)
		return false;
	*last = '\0';
	*rest = last + 1;
	last = strrchr(path, '/');
	if (!last || last < path + 4)
		return false;
	*last = '\0';
	*kind = last + 1;
	*name = path + 4;
	return **name != '\0';
}

static enum MHD_Result answer(void *owner, struct MHD_Connection *connection,
	const char *url, const char *method, const char *version,
	const char *upload, size_t *upload_size, void **request)
{
	struct served *served = owner;
	char path[1024], *name, *kind, *rest;

	(void)version;
	(void)upload;
	(void)upload_size;
	(void)request;
	if (served->verbose)
		fprintf(stderr, "%s %s\n", method, url);
	if (strcmp(method, "GET") != 0 && strcmp(method, "HEAD") != 0)
		return reply_error(connection, MHD_HTTP_METHOD_NOT_ALLOWED,
			"UNSUPPORTED", "only reading is possible here");
	if (strcmp(url, "/v2/") == 0)
		return reply(connection, MHD_HTTP_OK, "application/json", "{}");
	snprintf(path, sizeof(path), "%s", url);
	if (strlen(url) < sizeof(path) && split(path, &name, &kind, &rest)) {
		if (strcmp(kind, "manifests") == 0)
			return reply_manifest(
				connection, &served->layout, name, rest);
		if (strcmp(kind, "tags") == 0 && strcmp(rest, "list") == 0)
			return reply_tags(connection, &served->layout, name);
		if (strcmp(kind, "blobs") == 0 && th_digest_valid(rest) &&
			layout_has_name(&served->layout, name))
			return reply_file(connection, &served->layout, rest,
				"application/octet-stream");
	}
	return reply_error(connection, MHD_HTTP_NOT_FOUND, "NAME_UNKNOWN",
		"there is nothing here");
}

static int usage(FILE *to)
{
	fputs("chandler [--port N] [--verbose] LAYOUT\n"
	      "  serves an OCI image layout on 127.0.0.1, for demo and tests;\n"
	      "  port 0 (if nothing is said) is a free one; says which, and "
	      "stops on TERM\n",
		to);
	return to == stderr ? 2 : 0;
}

static int read_port(const char *text)
{
	char *end;
	long port = strtol(text, &end, 10);

	return end != text && !*end && port >= 0 && port <= 65535 ? (int)port
								  : -1;
}

static int serve(struct served *served, int port)
{
	struct sockaddr_in at = {.sin_family = AF_INET,
		.sin_port = htons((uint16_t)port),
		.sin_addr = {htonl(INADDR_LOOPBACK)}};
	const union MHD_DaemonInfo *info;
	struct MHD_Daemon *daemon;
	sigset_t set;
	int number;

	/* Blocked before the threads are made: they inherit it. */
	sigemptyset(&set);
	sigaddset(&set, SIGTERM);
	sigaddset(&set, SIGINT);
	sigprocmask(SIG_BLOCK, &set, NULL);
	daemon = MHD_start_daemon(MHD_USE_EPOLL_INTERNAL_THREAD, 0, NULL, NULL,
		answer, served, MHD_OPTION_SOCK_ADDR, &at,
		MHD_OPTION_THREAD_POOL_SIZE, 4u, MHD_OPTION_CONNECTION_TIMEOUT,
		60u, MHD_OPTION_END);
	if (!daemon) {
		fprintf(stderr, "chandler: cannot listen on port %d: %s\n",
			port, strerror(errno));
		return 1;
	}
	info = MHD_get_daemon_info(daemon, MHD_DAEMON_INFO_BIND_PORT);
	printf("listening on 127.0.0.1:%d\n", info ? info->port : port);
	fflush(stdout);
	sigwait(&set, &number);
	MHD_stop_daemon(daemon);
	return 0;
}

int main(int argc, char **argv)
{
	static const struct option options[] = {
		{"port", required_argument, NULL, 'p'},
		{"verbose", no_argument, NULL, 'v'},
		{"help", no_argument, NULL, 'h'}, {NULL, 0, NULL, 0}};
	struct served served = {.verbose = false};
	struct th_error err = {0};
	int port = 0, found, rc;

	while ((found = getopt_long(argc, argv, "h", options, NULL)) >= 0) {
		if (found == 'h')
			return usage(stdout);
		if (found == 'v')
			served.verbose = true;
		else if (found == 'p')
			port = read_port(optarg);
		if (found == '?' || port < 0)
			return usage(stderr);
	}
	if (optind != argc - 1)
		return usage(stderr);
	if (layout_open(argv[optind], &served.layout, &err)) {
		fprintf(stderr, "chandler: %s\n", err.msg);
		return 1;
	}
	rc = serve(&served, port);
	layout_close(&served.layout);
	return rc;
}
