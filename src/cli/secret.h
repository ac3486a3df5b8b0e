/* Values that must not stand on a command line. */
#ifndef CLI_SECRET_H
#define CLI_SECRET_H

#include "base/buffer.h"
#include "base/error.h"

/* A value from a file, or from standard input (path NULL), less one line end;
 * to be freed, NULL with an error. */
char *secret_read(const char *path, struct th_error *err);
/* Asks on the terminal, without showing what is typed; the same. */
char *secret_ask(const char *what, struct th_error *err);
/* Appends what --secret says ("NAME=@file:PATH", "@ask", "@stdin") to the list,
 * as NAME=VALUE. */
int secret_add(struct th_strings *list, const char *text, struct th_error *err);

#endif
