/* UTF-8 (RFC 3629), and what a text may do to the terminal that shows it. */
#ifndef TH_BASE_UTF8_H
#define TH_BASE_UTF8_H

#include <stdbool.h>
#include <stddef.h>

#include "base/buffer.h"

/* The length of the valid sequence at the beginning, 1 to 4; 0 where there is
 * none. len is at least 1. */
size_t th_utf8_length(const unsigned char *at, size_t len);

/* How many bytes from the beginning stand for themselves in a JSON string:
 * printable ASCII without quotes and backslashes. */
size_t th_utf8_plain(const char *text, size_t len);
/* True where all of it is such text, and line ends. */
bool th_utf8_plain_lines(const char *text, size_t len);

/* How many bytes from the beginning are harmless to show: valid UTF-8 without
 * control characters (but the tab) and without the marks that change the
 * direction of writing, with which a text can pretend to be another one. */
size_t th_utf8_harmless(const char *text, size_t len);

/* Appends the text with everything else made visible: <U+001B> for a
 * character, <9B> for a byte that is no UTF-8. */
void th_utf8_visible(const char *text, size_t len, struct th_buf *out);

/* The same for a JSON document, in which control characters below a space are
 * escaped already: the others become \u009b, which means the same there. */
void th_utf8_visible_json(const char *text, size_t len, struct th_buf *out);

#endif
