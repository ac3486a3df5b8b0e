/* Reading the parts of an OCI runtime config.json, with complaints that name
 * the part. For the oci module only. */
#ifndef TH_OCI_READ_H
#define TH_OCI_READ_H

#include <stdint.h>

#include "base/json.h"

/* Which members an object may have: those that are carried out, and those
 * that are known but not supported. Both lists end with NULL. Others are passed
 * over, as the specification demands. */
struct shape {
	const char *where;
	const char *const *done;
	const char *const *refused; /* may be NULL */
};

/* -1 where the object has a member that is not supported, and not null. */
int shape_check(
	const json_t *object, const struct shape *shape, struct th_error *err);

/* A copy of the member's text, to be freed. 1, 0 (not there), -1. */
int read_copy(const json_t *object, const char *key, const char *where,
	char **copy, struct th_error *err);
/* A user or group ID: 0 to 2^32-2. */
int read_id(const json_t *object, const char *key, const char *where,
	uint32_t *id, struct th_error *err);
/* A number within bounds. */
int read_number(const json_t *object, const char *key, const char *where,
	int64_t least, int64_t most, int64_t *value, struct th_error *err);
/* An object of texts as "key=value" strings. */
int read_map(const json_t *object, const char *key, const char *where,
	struct th_strings *list, struct th_error *err);
/* An array of objects: gives zeroed room for the items. *count counts those
 * that were read, so that a release after a failure frees what there is. */
int read_items(const json_t *object, const char *key, const struct shape *shape,
	size_t item_size, void **items, size_t *count,
	int (*read)(const json_t *item, void *out, struct th_error *err),
	struct th_error *err);

/* The index of text in a table of words; -1. */
int word_index(const char *text, const char *const *words);

/* JSON numbers of the specification may reach 2^64-1, which the library does
 * not take: those from 2^63 on become the negative number of the same bits.
 * Appends the document so changed to out. */
void wrap_big_numbers(const char *data, size_t len, struct th_buf *out);
/* False where nothing in the document can be such a number. */
bool has_big_numbers(const char *data, size_t len);

#endif
