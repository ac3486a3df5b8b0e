/* Documents of the library, read member by member: what is not there is "", 0
 * or false. */
#ifndef CLI_DOC_H
#define CLI_DOC_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"

const char *doc_text(const json_t *doc, const char *key);
int64_t doc_number(const json_t *doc, const char *key);
bool doc_flag(const json_t *doc, const char *key);
/* A time in microseconds since 1970. */
int64_t doc_time(const json_t *doc, const char *key);
/* A member that is a list or an object, or NULL; borrowed. */
json_t *doc_part(const json_t *doc, const char *key);
size_t doc_count(const json_t *doc, const char *key);
/* Texts of a list. */
const char *doc_item(const json_t *list, size_t at);
/* The texts of the member, with something between; to be released. */
void doc_join(const json_t *doc, const char *key, const char *between,
	struct th_buf *text);
/* A list of texts, whatever bytes they are of: for the library, and not to be
 * shown. The same for one. */
json_t *doc_of_texts(char *const *texts, size_t count);
void doc_set(json_t *doc, const char *key, const char *text);

/* A digest without its algorithm. */
const char *short_digest(const char *digest);

/* ---- of containers ---- */

/* True where its state is the word. */
bool is_state(const json_t *container, const char *word);
/* It runs, is paused, or waits for its next try. */
bool is_up(const json_t *container);
/* Where its ports can be reached: "80 at http://localhost:8080", one each; ""
 * where there are none. */
void reach_text(const json_t *container, char *text, size_t size);

#endif
