/* Compiled system-call filters in files, sealed: what was changed, cut short or
 * put under another name is not taken for a filter. */
#ifndef TH_SANDBOX_FILTER_FILE_H
#define TH_SANDBOX_FILTER_FILE_H

#include "base/buffer.h"
#include "base/error.h"

/* Writes the program as folder/filters/NAME, whole or not at all: the SHA-256
 * of name and program, and the program. */
int th_filter_seal(int folder, const char *name, const struct th_buf *program,
	struct th_error *err);

/* True where there is one of the name; what it holds is looked at when it is
 * read. */
bool th_filter_is_sealed(int folder, const char *name);

/* The file, open for reading, or -1: whatever becomes of the folder, it stays.
 */
int th_filter_open(int folder, const char *name);
/* Reads it into an empty buffer that takes TH_FILTER_MAX. True where the seal
 * fits; else the buffer stays empty, and the filter is to be compiled again. */
bool th_filter_unseal_file(int fd, const char *name, struct th_buf *program);
/* The same of any bytes that were sealed. */
bool th_filter_unseal(int fd, const char *name, struct th_buf *bytes);

#endif
