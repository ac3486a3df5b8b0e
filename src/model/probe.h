/* Probes: whether a running container does its work, asked from inside its
 * network. */
#ifndef TH_MODEL_PROBE_H
#define TH_MODEL_PROBE_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"

#define TH_PROBE_TEXT 512

enum th_probe_kind {
	TH_PROBE_NONE,
	TH_PROBE_TCP,
	TH_PROBE_HTTP,
	TH_PROBE_EXEC
};

#define TH_PROBE_ACCEPT_MAX 4
struct th_status_range {
	int first, last;
};

struct th_probe {
	enum th_probe_kind kind;
	int port;
	char path[256]; /* of http, with its slash */
	struct th_strings command; /* of exec; owned */
	int64_t every_ms, timeout_ms;
	int64_t grace_ms; /* failures so early do not count */
	/* Statuses of HTTP that are good beside 200 to 299. */
	struct th_status_range accept[TH_PROBE_ACCEPT_MAX];
	size_t accept_count;
	int limit; /* failures in a row that make it ailing */
};

/* Reads "http:80/health", "tcp:7070" or "exec:CMD ARG...", followed by
 * ",every=15s", ",limit=4", ",grace=30s", ",timeout=2s", ",accept=300-399" as
 * needed; "" is none. Words of a command that hold spaces stand in quotes.
 * TH_USAGE otherwise. */
int th_probe_parse(
	const char *text, struct th_probe *probe, struct th_error *err);
/* Such a text, without what is the default; "" for none. To be freed; NULL
 * without memory. */
char *th_probe_format(const struct th_probe *probe);
json_t *th_probe_to_json(const struct th_probe *probe);
int th_probe_from_json(
	const json_t *doc, struct th_probe *probe, struct th_error *err);
void th_probe_release(struct th_probe *probe);

/* True where the status of an HTTP answer is good. */
bool th_probe_accepts(const struct th_probe *probe, int status);

/* The state between answers. Begin with all zeros. */
struct th_health {
	int failures; /* in a row */
	bool ready, ailing;
};

/* Takes one answer, so many milliseconds after the start. True where the
 * container's health is another one now. */
bool th_health_take(struct th_health *health, const struct th_probe *probe,
	bool good, int64_t since_start_ms);
/* "warming", "ready" or "ailing". */
const char *th_health_word(const struct th_health *health);

#endif
