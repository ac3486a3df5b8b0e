/* The passwd and group files of a container, as it has them now. */
#ifndef TH_CONTAINER_ACCOUNTS_H
#define TH_CONTAINER_ACCOUNTS_H

#include "base/buffer.h"
#include "base/error.h"

struct th_account_files {
	char *passwd, *group; /* "" where there is none */
	struct th_buf text; /* holds both */
};

/* Reads them below the root folder, which may arrange anything for it: what is
 * no plain file counts as none. */
int th_accounts_read(
	int root, struct th_account_files *files, struct th_error *err);
void th_accounts_release(struct th_account_files *files);

#endif
