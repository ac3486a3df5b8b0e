/* Strict reading of JSON documents: every complaint names the document and
 * the member. */
#ifndef TH_BASE_JSON_H
#define TH_BASE_JSON_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/buffer.h"
#include "base/error.h"

/* Parses an object (RFC 8259). Duplicate members and more than depth 64 are
 * refused. what names the document in messages. *doc is a new reference. */
int th_json_parse(const char *data, size_t len, const char *what, json_t **doc,
	struct th_error *err);

/* Reads the object in a file of at most limit bytes; 1, 0 (no file), -1. */
int th_json_read_file(int dirfd, const char *path, size_t limit, json_t **doc,
	struct th_error *err);

/* The member as a string (borrowed). 1 found, 0 not there or null (*value is
 * NULL then), -1 of another type. where names the object in messages. */
int th_json_string(const json_t *object, const char *key, const char *where,
	const char **value, struct th_error *err);
int th_json_int(const json_t *object, const char *key, const char *where,
	int64_t *value, struct th_error *err);
int th_json_bool(const json_t *object, const char *key, const char *where,
	bool *value, struct th_error *err);
/* The member as an object or an array (borrowed); results as above. */
int th_json_object(const json_t *object, const char *key, const char *where,
	json_t **value, struct th_error *err);
int th_json_array(const json_t *object, const char *key, const char *where,
	json_t **value, struct th_error *err);
/* Appends copies of an array's strings. */
int th_json_strings(const json_t *object, const char *key, const char *where,
	struct th_strings *list, struct th_error *err);

/* The document as text, to be freed with free(), whatever memory jansson itself
 * takes; flags as json_dumps has them. NULL without memory, or where doc is
 * NULL. */
char *th_json_text(const json_t *doc, size_t flags);

/* The time as RFC 3339 has it, or null for 0; a new reference. */
json_t *th_json_time(int64_t time_us);

/* The text, or null for an empty one; a new reference. */
json_t *th_json_word(const char *text);

/* Takes out of an array what drop says. */
void th_json_filter(json_t *array,
	bool (*drop)(const json_t *item, const void *with), const void *with);

/* An array of strings; a new reference or NULL. */
json_t *th_json_from_strings(const struct th_strings *list);

/* Replaces the file by the document, indented, with a line end. */
int th_json_write_file(int dirfd, const char *path, const json_t *doc,
	mode_t mode, bool sync, struct th_error *err);
/* The same in one line, unsynced: for what programs read at each start. */
int th_json_write_compact(int dirfd, const char *path, const json_t *doc,
	mode_t mode, struct th_error *err);

#endif
