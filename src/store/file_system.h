/* Which file systems a store can lie on. */
#ifndef TH_STORE_FILE_SYSTEM_H
#define TH_STORE_FILE_SYSTEM_H

#include "base/error.h"

/* What people call a file system that comes over the network, by the number
 * that statfs(2) gives it; NULL for all others. On them the state's log, which
 * needs memory shared by all who open it (sqlite.org/wal.html), and the upper
 * folders of overlays (kernel, filesystems/overlayfs.rst) do not work. */
const char *th_network_file_system(long type);

/* The same of what path lies on, or will lie on when it is made. */
const char *th_on_network(const char *path);

/* TH_NOT_POSSIBLE where a store at path would be on one. local: a folder that
 * could be used instead. */
int th_store_check_place(
	const char *path, const char *local, struct th_error *err);

#endif
