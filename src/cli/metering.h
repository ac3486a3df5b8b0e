/* What running containers use, reading after reading, with what came before. */
#ifndef CLI_METERING_H
#define CLI_METERING_H

#include <jansson.h>
#include <stdbool.h>

#include "cli/output.h"
#include "cli/verb.h"

/* Readings that are kept of each container. */
#define HISTORY 240

enum figure {
	CPU, /* per cent of one */
	MEMORY, /* bytes */
	RECEIVED, /* bytes a second, as are the rest */
	SENT,
	READ,
	WRITTEN,
	FIGURES
};

/* What a figure is; below 0 where it is not known. */
struct sample {
	double of[FIGURES];
};

struct metered {
	char id[40];
	const json_t *now; /* as the library tells it; borrowed */
	struct sample past[HISTORY]; /* the last ones, the newest first */
	size_t samples;
};

struct metering {
	json_t *names; /* of those that are wanted; NULL: all */
	json_t *list; /* of what was read last */
	struct metered *all; /* in the order in which they are shown */
	size_t count;
	int sort; /* a figure, or FIGURES: by name */
};

/* Reads all anew, with "cpu-percent" since the reading before; -1 with an
 * error. */
int metering_read(struct invocation *call, struct metering *metering,
	struct th_error *err);
/* Sorts what was read. */
void metering_sort(struct metering *metering, int figure);
void metering_release(struct metering *metering);

/* The newest figure; below 0 where it is not known. */
double metered_now(const struct metered *one, enum figure figure);
/* The highest of the last so many. */
double metered_most(const struct metered *one, enum figure figure, size_t of);
/* "12.4 %", "3.1 MB", "20 kB/s", "-". */
void figure_text(enum figure figure, double value, char text[SIZE_TEXT + 4]);

/* A member in bytes; "-" where there is none. */
void meter_amount(const json_t *one, const char *key, char text[SIZE_TEXT]);
/* "3 MB of 64 MB". */
void meter_memory(const json_t *one, char text[64]);
/* "2 of 4096". */
void meter_processes(const json_t *one, char text[48]);

#endif
