/* From limits to the files of control groups. For the sandbox module only. */
#ifndef TH_SANDBOX_LIMITS_H
#define TH_SANDBOX_LIMITS_H

#include <stdbool.h>

#include "oci/resources.h"

/* One file to be written. The names and values of the two versions; an empty
 * name: that version cannot do it. */
struct limit {
	const char *controller;
	const char *what; /* for people: "a limit of memory" */
	char file2[64], value2[192];
	char file1[64], value1[192];
	bool elsewhere2; /* version 2 has it in another one's file */
	/* A second file of version 2 that does the same on other kernels. */
	char other2[64], other1[64];
};

struct limits {
	struct limit *items; /* owned */
	size_t count;
	bool failed; /* no memory */
};

/* All that resources ask for, but the device rules and "unified". */
void limits_read(const struct th_resources *resources, struct limits *limits);
void limits_release(struct limits *limits);

#endif
