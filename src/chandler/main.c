/* chandler: a stand-in registry for the demo and the tests. Serves an OCI
 * image layout over the OCI Distribution API, with logins, pages, ranges,
 * redirects, uploads and faults as they are asked for. */
#include <arpa/inet.h>
#include <errno.h>
#include <getopt.h>
#include <gnutls/gnutls.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "chandler/chandler.h"

/* Splits "/v2/NAME/KIND/REST", where NAME may hold slashes, and of uploads
 * "/v2/NAME/blobs/uploads/SESSION". */
static void split(struct request *request)
{
	char path[sizeof(request->path)], *last;

	snprintf(path, sizeof(path), "%s", request->path);
	last = strrchr(path, '/');
	if (strncmp(path, "/v2/", 4) != 0 || !last || last < path + 4)
		return;
	*last = '\0';
	snprintf(request->rest, sizeof(request->rest), "%.255s", last + 1);
	last = strrchr(path, '/');
	if (!last || last < path + 4)
		return;
	*last = '\0';
	snprintf(request->kind, sizeof(request->kind), "%.31s", last + 1);
	if (strcmp(request->kind, "uploads") == 0) {
		last = strrchr(path, '/');
		if (!last || last < path + 4)
			return;
		*last = '\0';
	}
	snprintf(request->name, sizeof(request->name), "%.511s", path + 4);
}

/* As a proxy it is given whole addresses. */
static const char *without_host(const char *url)
{
	const char *host = strncmp(url, "http://", 7) == 0 ? url + 7 : NULL;
	const char *slash = host ? strchr(host, '/') : NULL;

	return slash ? slash : url;
}

static struct request *new_request(struct chandler *chandler,
	struct MHD_Connection *connection, const char *url, const char *method)
{
	struct request *request = calloc(1, sizeof(*request));

	if (!request)
		return NULL;
	request->chandler = chandler;
	request->connection = connection;
	request->method = method;
	request->fd = -1;
	snprintf(request->path, sizeof(request->path), "%s", without_host(url));
	split(request);
	return request;
}

static enum MHD_Result reply_status(struct request *request)
{
	const char *headers[] = {"Retry-After", request->fault->retry, NULL};
	int64_t now = th_clock_mono_ms();

	if (request->fault->retry[0]) {
		atomic_store(&request->chandler->pause_from_ms, now);
		atomic_store(&request->chandler->pause_until_ms,
			now + atol(request->fault->retry) * 1000);
	}
	return reply_error(request, (unsigned int)request->fault->value,
		"UNKNOWN", "as it was asked for",
		request->fault->retry[0] ? headers : NULL);
}

/* The server only asks for a certificate; whether one came is looked at here.
 */
static bool is_certified(const struct request *request)
{
	const union MHD_ConnectionInfo *info = MHD_get_connection_info(
		request->connection, MHD_CONNECTION_INFO_GNUTLS_SESSION);
	unsigned int status = 1;

	return info &&
		gnutls_certificate_verify_peers2(info->tls_session, &status) ==
		0 &&
		status == 0;
}

/* Before the body: what can be refused already. */
static bool is_settled(struct request *request, int *result)
{
	struct chandler *chandler = request->chandler;

	request->fault = fault_find(chandler->faults, chandler->fault_count,
		request->path, UINT64_MAX);
	if (request->fault) {
		*result = reply_status(request);
		return true;
	}
	if (chandler->no_head && strcmp(request->method, "HEAD") == 0) {
		*result = reply_error(request, MHD_HTTP_METHOD_NOT_ALLOWED,
			"UNSUPPORTED", "no HEAD here", NULL);
		return true;
	}
	if (strcmp(request->path, "/token") == 0) {
		*result = logins_hand_token(request);
		return true;
	}
	if (chandler->tls && chandler->client_ca && !is_certified(request)) {
		*result = reply_error(request, MHD_HTTP_FORBIDDEN, "DENIED",
			"a certificate is needed", NULL);
		return true;
	}
	return !logins_allow(request, result);
}

static bool is_reading(const struct request *request)
{
	return (strcmp(request->method, "GET") == 0 ||
		       strcmp(request->method, "HEAD") == 0) &&
		strcmp(request->kind, "uploads") != 0;
}

static enum MHD_Result answer(void *owner, struct MHD_Connection *connection,
	const char *url, const char *method, const char *version,
	const char *data, size_t *len, void **held)
{
	struct request *request = *held;
	int result = MHD_NO;

	(void)version;
	if (!request) {
		request = new_request(owner, connection, url, method);
		*held = request;
		if (!request)
			return MHD_NO;
		if (is_settled(request, &result))
			return (enum MHD_Result)result;
		if (is_reading(request))
			return serve_read(request);
		return upload_begin(request) ? MHD_YES : MHD_NO;
	}
	if (*len) {
		bool taken = upload_take(request, data, *len);

		*len = 0;
		return taken ? MHD_YES : MHD_NO;
	}
	return upload_finish(request);
}

static void finished(void *owner, struct MHD_Connection *connection,
	void **held, enum MHD_RequestTerminationCode code)
{
	struct request *request = *held;

	(void)owner;
	(void)connection;
	(void)code;
	if (request)
		upload_release(request);
	free(request);
	*held = NULL;
}

/* ---- the command line ---- */

static int usage(FILE *to)
{
	fputs("chandler [OPTIONS] LAYOUT\n"
	      "  serves an OCI image layout on 127.0.0.1, for demo and tests;\n"
	      "  says where, and stops on TERM\n\n"
	      "  --port N              the port; 0 (the default): a free one\n"
	      "  --verbose             each request on standard error\n"
	      "  --tls-cert FILE       serve HTTPS; with --tls-key FILE\n"
	      "  --client-ca FILE      and only for certificates of these\n"
	      "  --login FILE          lines \"NAME PASSWORD\"\n"
	      "  --auth SCHEME         basic or bearer\n"
	      "  --open-pull           reading needs no login\n"
	      "  --token-life SECONDS  of bearer tokens\n"
	      "  --one-use             each of them opens one request\n"
	      "  --writable            take uploads, into LAYOUT\n"
	      "  --page N              lists come in pages of at most N\n"
	      "  --no-ranges           parts of blobs are not given\n"
	      "  --no-head             HEAD is not allowed\n"
	      "  --no-catalogue        the names are not told\n"
	      "  --redirect URL        blobs are to be had there\n",
		to);
	fputs("  --fault KIND[=VALUE][,path=TEXT][,times=N][,retry=SECONDS]\n"
	      "                        drop=BYTES, stall=BYTES, corrupt,\n"
	      "                        length=MORE, status=CODE; for requests\n"
	      "                        whose path holds TEXT (/blobs/), the\n"
	      "                        first N times (always)\n",
		to);
	return to == stderr ? 2 : 0;
}

struct given {
	int port;
	const char *cert, *key, *client_ca;
	struct th_buf cert_text, key_text, client_ca_text;
};

static bool read_text(const char *path, struct th_buf *text)
{
	struct th_error err = {0};

	th_buf_init(text, 1 << 20);
	if (!path || th_file_read(-100, path, text, &err) == 1)
		return true;
	fprintf(stderr, "chandler: cannot read %s\n", path);
	return false;
}

static struct MHD_Daemon *start(
	struct chandler *chandler, const struct given *given)
{
	struct sockaddr_in at = {.sin_family = AF_INET,
		.sin_port = htons((uint16_t)given->port),
		.sin_addr = {htonl(INADDR_LOOPBACK)}};
	struct MHD_OptionItem tls[] = {
		{MHD_OPTION_HTTPS_MEM_CERT, 0, given->cert_text.data},
		{MHD_OPTION_HTTPS_MEM_KEY, 0, given->key_text.data},
		{given->client_ca ? MHD_OPTION_HTTPS_MEM_TRUST : MHD_OPTION_END,
			0, given->client_ca_text.data},
		{MHD_OPTION_END, 0, NULL}};

	if (!given->cert)
		tls[0].option = MHD_OPTION_END;
	return MHD_start_daemon(MHD_USE_THREAD_PER_CONNECTION |
			MHD_USE_INTERNAL_POLLING_THREAD |
			(given->cert ? MHD_USE_TLS : 0),
		0, NULL, NULL, answer, chandler, MHD_OPTION_SOCK_ADDR, &at,
		MHD_OPTION_ARRAY, tls, MHD_OPTION_NOTIFY_COMPLETED, finished,
		NULL, MHD_OPTION_CONNECTION_TIMEOUT, 60u, MHD_OPTION_END);
}

static int serve(struct chandler *chandler, const struct given *given)
{
	const union MHD_DaemonInfo *info;
	struct MHD_Daemon *daemon;
	sigset_t set;
	int number;

	/* Blocked before the threads are made: they inherit it. */
	sigemptyset(&set);
	sigaddset(&set, SIGTERM);
	sigaddset(&set, SIGINT);
	sigprocmask(SIG_BLOCK, &set, NULL);
	daemon = start(chandler, given);
	if (!daemon) {
		fprintf(stderr, "chandler: cannot listen on port %d: %s\n",
			given->port, strerror(errno));
		return 1;
	}
	info = MHD_get_daemon_info(daemon, MHD_DAEMON_INFO_BIND_PORT);
	printf("listening on 127.0.0.1:%d\n", info ? info->port : given->port);
	fflush(stdout);
	sigwait(&set, &number);
	atomic_store(&chandler->stopping, true);
	MHD_stop_daemon(daemon);
	return 0;
}

static bool take_number(const char *text, long most, long *number)
{
	char *end;

	*number = strtol(text, &end, 10);
	return end != text && !*end && *number >= 0 && *number <= most;
}

static bool take_option(
	struct chandler *chandler, struct given *given, int option)
{
	long number = 0;

	switch (option) {
	case 'p':
		if (!take_number(optarg, 65535, &number))
			return false;
		given->port = (int)number;
		return true;
	case 'g':
		if (!take_number(optarg, 1000000, &number))
			return false;
		chandler->page = (size_t)number;
		return true;
	case 't':
		return take_number(
			optarg, 86400, &chandler->logins.token_seconds);
	case 'a':
		chandler->logins.scheme = strcmp(optarg, "basic") == 0
			? LOGIN_BASIC
			: LOGIN_BEARER;
		return strcmp(optarg, "basic") == 0 ||
			strcmp(optarg, "bearer") == 0;
	case 'l':
		return logins_open(&chandler->logins, optarg);
	case 'f':
		return chandler->fault_count < FAULTS_MAX &&
			fault_parse(optarg,
				&chandler->faults[chandler->fault_count++]);
	case 'c':
		given->cert = optarg;
		return true;
	case 'k':
		given->key = optarg;
		return true;
	case 'C':
		given->client_ca = optarg;
		return true;
	case 'r':
		chandler->redirect = optarg;
		return true;
	case 'v':
		chandler->verbose = true;
		return true;
	case 'w':
		chandler->writable = true;
		return true;
	case 'o':
		chandler->logins.open_pull = true;
		return true;
	case 'n':
		chandler->no_ranges = true;
		return true;
	case 'q':
		chandler->no_catalogue = true;
		return true;
	case 'u':
		chandler->logins.one_use = true;
		return true;
	case 'e':
		chandler->no_head = true;
		return true;
	}
	return false;
}

static const struct option options[] = {{"port", required_argument, NULL, 'p'},
	{"page", required_argument, NULL, 'g'},
	{"token-life", required_argument, NULL, 't'},
	{"auth", required_argument, NULL, 'a'},
	{"login", required_argument, NULL, 'l'},
	{"fault", required_argument, NULL, 'f'},
	{"tls-cert", required_argument, NULL, 'c'},
	{"tls-key", required_argument, NULL, 'k'},
	{"client-ca", required_argument, NULL, 'C'},
	{"redirect", required_argument, NULL, 'r'},
	{"verbose", no_argument, NULL, 'v'},
	{"writable", no_argument, NULL, 'w'},
	{"open-pull", no_argument, NULL, 'o'},
	{"no-ranges", no_argument, NULL, 'n'},
	{"no-catalogue", no_argument, NULL, 'q'},
	{"one-use", no_argument, NULL, 'u'},
	{"no-head", no_argument, NULL, 'e'}, {"help", no_argument, NULL, 'h'},
	{NULL, 0, NULL, 0}};

int main(int argc, char **argv)
{
	struct chandler chandler = {.logins = {.token_seconds = 300}};
	struct given given = {.port = 0};
	struct th_error err = {0};
	int found, rc = 1;

	while ((found = getopt_long(argc, argv, "h", options, NULL)) >= 0) {
		if (found == 'h')
			return usage(stdout);
		if (!take_option(&chandler, &given, found))
			return usage(stderr);
	}
	if (optind != argc - 1 || !given.cert != !given.key ||
		(chandler.logins.scheme && !chandler.logins.text))
		return usage(stderr);
	chandler.tls = given.cert != NULL;
	chandler.client_ca = given.client_ca != NULL;
	if (layout_open(argv[optind], &chandler.layout, &err)) {
		fprintf(stderr, "chandler: %s\n", err.msg);
		return 1;
	}
	if (read_text(given.cert, &given.cert_text) &&
		read_text(given.key, &given.key_text) &&
		read_text(given.client_ca, &given.client_ca_text))
		rc = serve(&chandler, &given);
	th_buf_release(&given.cert_text);
	th_buf_release(&given.key_text);
	th_buf_release(&given.client_ca_text);
	logins_close(&chandler.logins);
	layout_close(&chandler.layout);
	return rc;
}
