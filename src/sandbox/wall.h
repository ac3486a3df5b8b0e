/* For processes of ours that do nothing but carry what strangers send: whoever
 * takes one over is to gain nothing by it. Both need no-new-privileges, or
 * CAP_SYS_ADMIN. */
#ifndef TH_SANDBOX_WALL_H
#define TH_SANDBOX_WALL_H

#include <stdbool.h>
#include <stddef.h>

#include "base/error.h"

/* A folder, open or by name, that stays reachable. */
struct th_wall_folder {
	int fd; /* -1: by its path */
	const char *path;
	bool write; /* and files in it may be made, written and removed */
};

/* No other files from now on (Landlock). Folders that are not there are left
 * out; a kernel without Landlock, or with it switched off, is no error. */
int th_wall_files(const struct th_wall_folder *folders, size_t count,
	struct th_error *err);

/* No other system calls (SYS_...) from now on, for the calling thread and
 * those that it starts: they get EPERM. socket opens IPv4 and IPv6 only. */
int th_wall_calls(const int *numbers, size_t count, struct th_error *err);

#endif
