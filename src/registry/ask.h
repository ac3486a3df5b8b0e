/* One request to a registry, carried through: credentials are given where they
 * are asked for, redirects followed, and what may pass is tried again. */
#ifndef TH_REGISTRY_ASK_H
#define TH_REGISTRY_ASK_H

#include "registry/access.h"
#include "registry/config.h"
#include "registry/http.h"

struct th_registry_options {
	const struct th_config *config;
	struct th_access *access; /* shared by all of a command; not NULL */
	struct th_cancel cancel;
};

/* A registry, for one thread. */
struct th_registry;

struct th_registry *th_registry_new(const struct th_registry_options *options,
	const char *host, struct th_error *err);
void th_registry_free(struct th_registry *registry);
const char *th_registry_host(const struct th_registry *registry);
/* "https://host:port" */
const char *th_registry_base(const struct th_registry *registry);

/* Makes an address that the registry gave (whole, or from the root on)
 * absolute. False where it is none, is too long, or would leave TLS. */
bool th_registry_resolve(const struct th_registry *registry, const char *given,
	char url[TH_URL_MAX]);

struct th_ask {
	const char *method; /* NULL: GET */
	const char *url; /* absolute */
	const char *scope; /* what must be allowed */
	const char *headers[TH_HEADERS_MAX - 1]; /* NULL ends */
	/* What is sent, opened anew for each try; NULL: nothing. */
	struct th_source *(*open_body)(void *owner, struct th_error *err);
	void *owner;
	uint64_t body_bytes;
	/* A broken upload is not simply sent again: its caller asks first how
	 * far it came. */
	bool once;
};

/* The body is read from *body or with th_ask_read, until the next request.
 * Returns 0 with whatever status was answered in the end; -1 where there was
 * no answer, or none that could be followed. */
int th_ask(struct th_registry *registry, const struct th_ask *ask,
	struct th_http_answer *answer, struct th_source **body,
	struct th_error *err);
int th_ask_read(
	struct th_registry *registry, struct th_buf *buf, struct th_error *err);
/* The same for a small document, which is read into body where the status is
 * 200; one that breaks off is asked for again. */
int th_ask_document(struct th_registry *registry, const struct th_ask *ask,
	struct th_http_answer *answer, struct th_buf *body,
	struct th_error *err);
void th_ask_end(struct th_registry *registry);

/* Whether the last failure may pass, and waiting before the next try (the
 * first is number 0); -1 where the caller has given up meanwhile. */
bool th_ask_may_pass(const struct th_registry *registry);
int th_ask_wait(
	const struct th_registry *registry, int number, struct th_error *err);
/* How often something is tried again before it is given up. */
#define TH_RETRIES 4

/* The error that an answer stands for, with the registry's own words where it
 * sent some (distribution spec.md, "Error Codes"). what: "selwick/gauge:2". */
int th_ask_fail(struct th_registry *registry,
	const struct th_http_answer *answer, const char *what,
	struct th_error *err);

#endif
