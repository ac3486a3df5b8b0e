/* Files and folders: reading with a limit, writing that is whole or not at
 * all, and removal of trees. */
#ifndef TH_BASE_FILE_H
#define TH_BASE_FILE_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/buffer.h"
#include "base/cancel.h"
#include "base/error.h"

struct stat;

/* Appends the file's content. path is taken beneath dirfd (AT_FDCWD as in
 * openat). Returns 1, 0 where there is no such file, -1 on failure (also
 * where it is longer than the buffer's limit). A signal that is caught while it
 * waits for a pipe ends it. */
int th_file_read(
	int dirfd, const char *path, struct th_buf *buf, struct th_error *err);

/* The same of what the caller has named: "-" is standard input. */
int th_named_read(const char *path, struct th_buf *buf, struct th_error *err);
/* The same of what can be nothing but a regular file: one of the store. What
 * somebody may have put there instead (a FIFO, say) is not waited for. */
int th_file_read_regular(
	int dirfd, const char *path, struct th_buf *buf, struct th_error *err);

/* The same of what is open already; name is for messages. 1 or -1. */
int th_fd_read(
	int fd, const char *name, struct th_buf *buf, struct th_error *err);
/* The same, while it is not cancelled; TH_FAILED then. */
int th_fd_read_cancellable(int fd, const char *path, struct th_buf *buf,
	struct th_cancel cancel, struct th_error *err);
/* Waits until there is something to read, or its end; a pipe may be silent for
 * long. False where that was cancelled. */
bool th_fd_wait(int fd, struct th_cancel cancel);

/* The same of a descriptor that is a regular file: what a container has under
 * a name may be a FIFO or a device. 1; 0 where it is none. */
int th_fd_read_regular(
	int fd, const char *name, struct th_buf *buf, struct th_error *err);

/* Replaces the file: written beside, synced where sync says so, renamed. On
 * failure nothing is left and an older file stays as it was. */
int th_file_replace(int dirfd, const char *path, const void *data, size_t len,
	mode_t mode, bool sync, struct th_error *err);

/* Writes all of it; -1 with errno set. */
int th_write_all(int fd, const void *data, size_t len);

/* The next part of a file of size bytes, from at on, that is no hole: true, and
 * it goes from *data up to *hole. A file system that does not know holes says
 * that all is data (lseek(2)); what cannot be asked is taken as data too. */
bool th_file_next_data(int fd, off_t at, off_t size, off_t *data, off_t *hole);

/* The file of that name, made where it is missing, locked for this process
 * alone. Others are waited for so many milliseconds, as whoever holds a lock
 * may have been stopped; then -1, with EBUSY. */
int th_lock_file(
	int dirfd, const char *name, int patience_ms, struct th_error *err);

/* Makes the folder and those above it. */
int th_dir_make(const char *path, mode_t mode, struct th_error *err);

/* Sets mode bits, also by a descriptor of O_PATH, but not of a symbolic link.
 * -1 with errno. Never by name: a name may lead elsewhere by now. */
int th_fd_chmod(int fd, mode_t mode);

/* Removes a file or a folder with all that is in it, following no link and
 * crossing no mount, however deep it is. One that is not there counts as
 * success. */
int th_tree_remove(int dirfd, const char *name, struct th_error *err);

/* Bytes on disk of a folder and what is beneath it, down to 200 levels. */
uint64_t th_tree_size(int dirfd, const char *name);

/* True where the open folder holds nothing; one that cannot be read seems to.
 */
bool th_dir_is_empty(int folder);

/* Opens a folder that nobody but this user may have a say in: the user's own,
 * no link, no permission for others. -1 with an error that says what to do. */
int th_dir_open_private(const char *path, struct th_error *err);

/* True where the other end of a local socket is of this very user (for the
 * side that connects: where the listener is; SO_PEERCRED, unix(7)). */
bool th_peer_is_own(int socket);

/* True where both are of one file, whatever its names: a number of an inode
 * says nothing without the file system that it is of (inode(7)). */
bool th_is_same_file(const struct stat *one, const struct stat *other);
/* A pipe or a character device, as /dev/null and terminals are: whoever names
 * one means it to be written, not replaced by a file. Links are followed. */
bool th_file_is_stream(const char *path);

/* Closes where *fd is not negative, and sets it to -1. */
void th_close(int *fd);

/* Writes the file in place, in one step: whoever reads meanwhile sees the old
 * content or the new one, also by another mount of it. Never waits: a lease on
 * the file makes it fail. what: for messages. */
int th_file_overwrite(int dirfd, const char *name, const void *data, size_t len,
	const char *what, struct th_error *err);

/* The path that a descriptor of this process stands for: for programs and
 * sockets that take paths only. text needs TH_FD_PATH bytes. */
#define TH_FD_PATH 64
const char *th_fd_path(int fd, const char *name, char text[TH_FD_PATH]);

#endif
