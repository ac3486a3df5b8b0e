/* A stream of bytes that is asked for its next piece. */
#ifndef TH_BASE_SOURCE_H
#define TH_BASE_SOURCE_H

#include <sys/types.h>

#include "base/error.h"

struct th_source {
	/* Gives the next piece: its length, 0 at the end, -1 with the error.
	 * *data stays valid until the next call. */
	ssize_t (*next)(struct th_source *source, const void **data,
		struct th_error *err);
};

#endif
