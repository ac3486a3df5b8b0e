/* chandler's parts: what is served, to whom, and what goes wrong on demand. */
#ifndef CHANDLER_CHANDLER_H
#define CHANDLER_CHANDLER_H

#include <microhttpd.h>
#include <stdatomic.h>

#include "chandler/fault.h"
#include "chandler/layout.h"
#include "chandler/login.h"

#define FAULTS_MAX 16

struct chandler {
	struct layout layout;
	struct logins logins;
	struct fault faults[FAULTS_MAX];
	size_t fault_count;
	const char *redirect; /* where blobs are sent for; NULL: served here */
	size_t page; /* the most that a list's page holds; 0: all */
	bool verbose, writable, no_ranges, no_catalogue, no_head, tls,
		client_ca;
	atomic_bool stopping;
	/* The last pause that was asked for, on the monotonic clock. */
	_Atomic int64_t pause_from_ms, pause_until_ms;
};

/* One request while it is handled. */
struct request {
	struct chandler *chandler;
	struct MHD_Connection *connection;
	const char *method;
	char path[1024]; /* without a proxy's prefix */
	char name[512], kind[32], rest[256]; /* /v2/NAME/KIND/REST */
	struct fault *fault; /* that strikes it, or NULL */
	/* an upload */
	int fd;
	uint64_t body_bytes;
	bool too_long;
	char *body; /* of a manifest; owned */
};

/* ---- serve.c ---- */

enum MHD_Result reply(struct request *request, unsigned int status,
	const char *type, const char *text, const char *const *headers);
/* The specification's form of an error (spec.md, "Error Codes"). headers:
 * name, value, name, value, NULL; or NULL. */
enum MHD_Result reply_error(struct request *request, unsigned int status,
	const char *code, const char *message, const char *const *headers);
/* Answers a request that reads. */
enum MHD_Result serve_read(struct request *request);

/* ---- upload.c ---- */

/* What the body of a request goes into is opened; then each piece is taken;
 * then it is answered. begin and take return false where something failed,
 * which finish then says. */
bool upload_begin(struct request *request);
bool upload_take(struct request *request, const char *data, size_t len);
enum MHD_Result upload_finish(struct request *request);
void upload_release(struct request *request);

#endif
