/* A stream of bytes that is given its next piece. */
#ifndef TH_BASE_SINK_H
#define TH_BASE_SINK_H

#include <stddef.h>

#include "base/error.h"

struct th_sink {
	/* Takes all of the piece; 0, or -1 with the error. */
	int (*put)(struct th_sink *sink, const void *data, size_t len,
		struct th_error *err);
};

#endif
