/* The wish to end something early: by the person who asked for it, and by the
 * failure of a sibling. With it goes what is told to that person meanwhile. */
#ifndef TH_BASE_CANCEL_H
#define TH_BASE_CANCEL_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>

#include "base/work.h"

struct th_cancel {
	const atomic_bool *flags[2]; /* borrowed; NULL: never set */
	struct th_work *work; /* borrowed; NULL: nobody wants to know */
};

static inline bool th_cancelled(struct th_cancel cancel)
{
	return (cancel.flags[0] && atomic_load(cancel.flags[0])) ||
		(cancel.flags[1] && atomic_load(cancel.flags[1]));
}

#endif
