/* Probes: whether a running container does its work, asked from inside its
 * network. */
#ifndef TH_KEEPER_PROBE_H
#define TH_KEEPER_PROBE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "store/container_state.h"

enum th_probe_kind {
	TH_PROBE_NONE,
	TH_PROBE_TCP,
	TH_PROBE_HTTP,
	TH_PROBE_EXEC
};

struct th_probe {
	enum th_probe_kind kind;
	int port;
	char path[256]; /* of http, with its slash */
	struct th_strings command; /* of exec; owned */
	int64_t every_ms, timeout_ms;
	int64_t grace_ms; /* failures so early do not count */
	int limit; /* failures in a row that make it ailing */
};

/* Reads "http:80/health", "tcp:3306" or "exec:CMD ARG...", with ",every=10s",
 * ",limit=3", ",grace=30s", ",timeout=2s" behind it; "" is none. Words of a
 * command that hold spaces stand in quotes. TH_USAGE otherwise. */
int th_probe_parse(
	const char *text, struct th_probe *probe, struct th_error *err);
void th_probe_release(struct th_probe *probe);

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
