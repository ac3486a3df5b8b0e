/* For processes of ours that do nothing but carry what strangers send: whoever
 * takes one over is to gain nothing by it. Both need no-new-privileges, or
 * CAP_SYS_ADMIN. */
#ifndef TH_SANDBOX_WALL_H
#define TH_SANDBOX_WALL_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "base/error.h"

enum th_wall_access {
	TH_WALL_READ,
	TH_WALL_FILES, /* and plain files in it may be made and removed */
	TH_WALL_ALL /* but nothing in it can be executed */
};

/* A folder, open or by name, that stays reachable; or a single file. */
struct th_wall_folder {
	int fd; /* -1: by its path */
	const char *path;
	enum th_wall_access access;
};

/* All of it: no capabilities but those to keep, no new ones, and the two below;
 * no folders: files stay as they are. */
int th_wall(uint64_t keep, const struct th_wall_folder *folders,
	size_t folder_count, const int *numbers, size_t count,
	struct th_error *err);

/* No other files from now on (Landlock). Folders that are not there are left
 * out; a kernel without Landlock, or with it switched off, is no error. */
int th_wall_files(const struct th_wall_folder *folders, size_t count,
	struct th_error *err);

/* TCP connections to these ports only, and none that others can make to it
 * (Landlock, from its fourth version on; older ones are no error). */
int th_wall_ports(const uint16_t *ports, size_t count, struct th_error *err);

/* In place of SYS_socket in a list of calls: streams (TCP) only. */
#define TH_WALL_STREAM_SOCKET (-1)

/* No other system calls (SYS_...) from now on, for the calling thread and
 * those that it starts: they get EPERM. Where they are in the list, socket
 * opens IPv4 and IPv6 only, and mmap and mprotect make no code. */
int th_wall_calls(const int *numbers, size_t count, struct th_error *err);

#endif
