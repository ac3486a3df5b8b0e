/* The files beside the state database. For database.c only. */
#ifndef TH_STORE_DATABASE_FILES_H
#define TH_STORE_DATABASE_FILES_H

#include "base/error.h"

/* What the log of the database keeps on the disk: it is overwritten from its
 * beginning, so that a full disk refuses no transaction until that much has
 * come since the last checkpoint. */
#define LOG_BYTES 1048576

/* An error where one of them is there and no file: SQLite would wait for
 * whoever writes into a FIFO. */
int database_check_files(const char *path, struct th_error *err);
/* Blocks that the log is written to when there are no others. */
void database_reserve_log(const char *path);

#endif
