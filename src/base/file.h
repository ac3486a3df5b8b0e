/* Files and folders: reading with a limit, writing that is whole or not at
 * all, and removal of trees. */
#ifndef TH_BASE_FILE_H
#define TH_BASE_FILE_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/buffer.h"
#include "base/error.h"

/* Appends the file's content. path is taken beneath dirfd (AT_FDCWD as in
 * openat). Returns 1, 0 where there is no such file, -1 on failure (also
 * where it is longer than the buffer's limit). */
int th_file_read(
	int dirfd, const char *path, struct th_buf *buf, struct th_error *err);

/* The same of what is open already; name is for messages. 1 or -1. */
int th_fd_read(
	int fd, const char *name, struct th_buf *buf, struct th_error *err);

/* Replaces the file: written beside, synced where sync says so, renamed. On
 * failure nothing is left and an older file stays as it was. */
int th_file_replace(int dirfd, const char *path, const void *data, size_t len,
	mode_t mode, bool sync, struct th_error *err);

/* Writes all of it; -1 with errno set. */
int th_write_all(int fd, const void *data, size_t len);

/* Makes the folder and those above it. */
int th_dir_make(const char *path, mode_t mode, struct th_error *err);

/* Removes a file or a folder with all that is in it, following no link and
 * crossing no mount. One that is not there counts as success. */
int th_tree_remove(int dirfd, const char *name, struct th_error *err);

/* Bytes on disk of a folder and all beneath it. */
uint64_t th_tree_size(int dirfd, const char *name);

/* Closes where *fd is not negative, and sets it to -1. */
void th_close(int *fd);

/* Writes the file in place, in one step: whoever reads meanwhile sees the old
 * content or the new one, also by another mount of it. what: for messages. */
int th_file_overwrite(int dirfd, const char *name, const void *data, size_t len,
	const char *what, struct th_error *err);

/* The path that a descriptor of this process stands for: for programs and
 * sockets that take paths only. text needs TH_FD_PATH bytes. */
#define TH_FD_PATH 64
const char *th_fd_path(int fd, const char *name, char text[TH_FD_PATH]);

#endif
