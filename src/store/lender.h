/* A folder of unpacked layers that an administrator has made for all users of
 * a host or a cluster: the images/ and trees/ of a store. Who uses it unpacks
 * nothing: the own store has links to what is there (image/borrow.h).
 *
 * Whoever could change it could change what others run. So it is taken only
 * where it is mounted read-only, and where nobody but root and the caller can
 * put another folder in its place. */
#ifndef TH_STORE_LENDER_H
#define TH_STORE_LENDER_H

#include "base/error.h"

struct th_lender {
	char *folder; /* absolute, without links */
	int fd; /* -1 where it cannot be used */
	struct th_error why; /* then: to be told when a layer is wanted */
};

/* Looks at the folder. It has to happen before this process goes into another
 * user namespace, where root is nobody any more. NULL without memory. */
struct th_lender *th_lender_open(const char *folder);
void th_lender_close(struct th_lender *lender);

#endif
