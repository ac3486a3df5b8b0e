/* The limits of a container: "memory=256M,cpu=1.5,processes=200". */
#ifndef TH_MODEL_LIMIT_H
#define TH_MODEL_LIMIT_H

#include <jansson.h>
#include <stdint.h>

#include "base/error.h"

#define TH_LIMIT_PERIOD_US 100000

struct th_limit {
	/* 0: not given; -1: "none" */
	int64_t memory_bytes, swap_bytes;
	int64_t cpu_us; /* of each TH_LIMIT_PERIOD_US */
	int64_t processes;
	int64_t io_weight; /* 10 to 1000 */
};

/* Adds what text says to limit; later words win. */
int th_limit_parse(
	const char *text, struct th_limit *limit, struct th_error *err);
/* As text again; "" where nothing is limited. text has 160 bytes. */
#define TH_LIMIT_TEXT 160
void th_limit_format(const struct th_limit *limit, char text[TH_LIMIT_TEXT]);

/* An object of what is given, and back. */
json_t *th_limit_to_json(const struct th_limit *limit);
int th_limit_from_json(
	const json_t *doc, struct th_limit *limit, struct th_error *err);

#endif
