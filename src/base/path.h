/* Names below a folder that cannot lead out of it (openat2). */
#ifndef TH_BASE_PATH_H
#define TH_BASE_PATH_H

#include <fcntl.h>
#include <stdbool.h>
#include <sys/types.h>

#include "base/error.h"

/* Opens path as a process whose root is rootfd would: links are followed,
 * but resolved inside. Returns the descriptor or -1 with errno
 * (openat2(2), RESOLVE_IN_ROOT, no magic links). */
int th_path_open_in_root(int rootfd, const char *path, int flags, mode_t mode);

/* Opens path only where no part of it is a link or leads out
 * (RESOLVE_BENEATH, RESOLVE_NO_SYMLINKS); -1 with errno. */
int th_path_open_beneath(int dirfd, const char *path, int flags, mode_t mode);

/* The same with links followed, as long as they stay beneath it
 * (RESOLVE_BENEATH, no magic links): EXDEV where one does not. */
int th_path_open_within(int dirfd, const char *path, int flags);

/* Makes path inside rootfd, as a folder or as an empty file, with the folders
 * above it, and opens it with O_PATH. What is there already is only opened.
 * -1 with errno. */
int th_path_make_in_root(int rootfd, const char *path, bool folder);

/* Turns path into an absolute one without "." and ".." parts, taken from
 * base where it is relative; to be freed. Links are left alone. */
char *th_path_absolute(const char *base, const char *path);

/* The part behind the last slash. */
const char *th_path_last(const char *path);

#endif
