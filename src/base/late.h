/* Libraries that are loaded when they are first needed. */
#ifndef TH_BASE_LATE_H
#define TH_BASE_LATE_H

#include "base/error.h"

struct late_function {
	const char *name; /* NULL ends the list */
	void *place; /* the pointer to it that is to be filled */
};

struct late_library {
	const char *file;
	const struct late_function *functions;
	int loaded;
};

/* Loads the library and fills all pointers; again and again is fine, also
 * from several threads. */
int late_load(struct late_library *library, struct th_error *err);

#endif
