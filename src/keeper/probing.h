/* Asking the container whether it does its work. */
#ifndef TH_KEEPER_PROBING_H
#define TH_KEEPER_PROBING_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/loop.h"
#include "model/probe.h"
#include "sandbox/sandbox.h"

struct keeper;

/* A probe that is made, or is to be made. */
struct probing {
	struct th_probe probe;
	struct th_health health;
	int64_t next_ms; /* when it is asked again */
	int64_t until_ms; /* while it is asked: how long */
	bool asking;
	struct inner *inside; /* sockets of the container's network */
	int target; /* which address is tried */
	struct th_watch watch; /* the socket, or the command's process */
	struct th_joining joining; /* of the command, before it has a pid */
	bool is_joining;
	pid_t pid;
	bool connecting;
	char answer[64]; /* the beginning of it */
	size_t answer_len;
	bool judged; /* by its beginning; the rest of it is let pass */
	char verdict[80]; /* what is wrong, or "" */
	size_t passed; /* bytes of the rest */
};

/* The probe that counts from now on; taken over. */
void keeper_probe_take(struct keeper *keeper, struct th_probe *probe);
void keeper_probe_begin(struct keeper *keeper);
void keeper_probe_end(struct keeper *keeper);
/* The word of the health: "" without a probe. */
const char *keeper_health_word(const struct keeper *keeper);
bool keeper_is_ready(const struct keeper *keeper);
/* Milliseconds until it has something to do, or -1; and doing it. */
int64_t keeper_probe_due(const struct keeper *keeper);
void keeper_probe_work(struct keeper *keeper);

#endif
