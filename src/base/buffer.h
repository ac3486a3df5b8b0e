/* A growing run of bytes with a limit, and a list of strings. */
#ifndef TH_BASE_BUFFER_H
#define TH_BASE_BUFFER_H

#include <stdbool.h>
#include <stddef.h>

/* data is always followed by a NUL that len does not count. A failed append
 * (no memory, limit reached) sets failed, and further appends do nothing, so
 * one test at the end is enough. */
struct th_buf {
	char *data; /* owned; "" and not to be freed while cap is 0 */
	size_t len;
	size_t cap;
	size_t limit; /* bytes */
	bool failed;
};

void th_buf_init(struct th_buf *buf, size_t limit);
void th_buf_release(struct th_buf *buf);
void th_buf_add(struct th_buf *buf, const void *data, size_t len);
void th_buf_adds(struct th_buf *buf, const char *text);
void th_buf_addf(struct th_buf *buf, const char *fmt, ...)
	__attribute__((format(printf, 2, 3)));
/* Appends the data in base 64 (RFC 4648). */
void th_buf_base64(struct th_buf *buf, const void *data, size_t len);
/* Appends what the text in base 64 stands for, with or without the padding;
 * false where it is none. */
bool th_buf_unbase64(struct th_buf *buf, const char *text, size_t len);
/* Makes room for len bytes behind the end; NULL where that fails. The caller
 * fills them and adds to len. */
char *th_buf_room(struct th_buf *buf, size_t len);
/* Hands the data over (to be freed with free) and empties the buffer; NULL
 * where an append had failed. */
char *th_buf_take(struct th_buf *buf);
/* Gives back what it does not need for what is in it. */
void th_buf_fit(struct th_buf *buf);
/* Removes the first len bytes. */
void th_buf_drop(struct th_buf *buf, size_t len);

/* The place of one more item behind count of that size, after *list has become
 * a larger one where it was full; NULL without memory, and the list stays. A
 * list that grows by this alone is full where its count is a power of two from
 * 8 on, or 0. */
void *th_grow(void **list, size_t count, size_t size);

/* A list of owned strings, always ended by a NULL once it has an item. */
struct th_strings {
	char **items;
	size_t count;
};

/* Appends a copy; -1 without memory. */
int th_strings_add(struct th_strings *list, const char *text);
/* Appends the string itself, which the list owns from then on, also when it
 * fails; NULL counts as failure. */
int th_strings_take(struct th_strings *list, char *text);
/* Adds a copy of KEY=VALUE in the place of one of the same key, if there is
 * one. -1 without memory. */
int th_strings_set(struct th_strings *list, const char *pair);
void th_strings_release(struct th_strings *list);

/* A formatted string to be freed with free; NULL without memory. */
char *th_format(const char *fmt, ...) __attribute__((format(printf, 1, 2)));

#endif
