/* How far work is that reads or writes much, for whoever waits for it. */
#ifndef TH_BASE_WORK_H
#define TH_BASE_WORK_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

struct th_work {
	/* In memory that children share: one of them may do the work. */
	_Atomic uint64_t *done_bytes;
	uint64_t all_bytes; /* 0: not known */
	/* Tells of it; both 0 once it is over. NULL: nobody wants to know, as
	 * in a child. */
	void (*tell)(void *owner, uint64_t done_bytes, uint64_t all_bytes);
	void *owner;
};

/* All of these take NULL for work that nobody wants to know of. */

static inline void th_work_tell(const struct th_work *work)
{
	if (work && work->tell)
		work->tell(work->owner, atomic_load(work->done_bytes),
			work->all_bytes);
}

static inline void th_work_begin(struct th_work *work, uint64_t all_bytes)
{
	if (!work)
		return;
	atomic_store(work->done_bytes, 0);
	work->all_bytes = all_bytes;
}

static inline void th_work_add(const struct th_work *work, uint64_t bytes)
{
	if (!work)
		return;
	atomic_fetch_add(work->done_bytes, bytes);
	th_work_tell(work);
}

static inline void th_work_end(const struct th_work *work)
{
	if (work && work->tell)
		work->tell(work->owner, 0, 0);
}

#endif
