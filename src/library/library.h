/* What the parts of the public library share. For the library module only. */
#ifndef TH_LIBRARY_LIBRARY_H
#define TH_LIBRARY_LIBRARY_H

#include <jansson.h>

#include "session/hull.h"
#include "tidyhull/tidyhull.h"
#include "view/look.h"

/* What a call begins with that gives a document: NULL where it fails. */
void library_begin(json_t **doc);
/* Gives the document, or lets it go where nobody wants it (given NULL); 0, or
 * -1 without memory. */
int library_give(json_t *doc, json_t **given, struct th_error *err);
/* The same as the only member of an object. */
int library_give_list(
	const char *name, json_t *list, json_t **given, struct th_error *err);

/* The one container of the name. */
int library_container(th_hull *hull, const char *name,
	struct th_container_row *row, struct th_error *err);
/* The container as it is now: as in a list. NULL where it is gone. */
json_t *library_now(th_hull *hull, const char *id);

/* All problems as one error, a line each, with the code of the first; doc gets
 * them one by one. Lets them go; -1. */
int library_problems(
	struct th_problems *problems, json_t **doc, struct th_error *err);

/* Settings of an object (tidyhull/container.h); texts point into the document.
 */
int library_settings(const json_t *doc, const struct th_caller *caller,
	struct th_settings *settings, struct th_error *err);

/* A list of texts, or NULL for none; appended. */
int library_texts(const json_t *list, const char *what,
	struct th_strings *texts, struct th_error *err);
/* A text of an object; NULL where there is none. */
const char *library_text(const json_t *doc, const char *key);
/* One of "missing", "always" and "never"; NULL is missing. */
int library_fetch(const char *word, enum th_fetch *fetch, struct th_error *err);
/* {"code", "message", "hint"}. */
json_t *library_error(const struct th_error *err);
/* How something ended: {"kind", "code", "by-force", "sessions"}. */
json_t *library_ending(const struct th_ending *ending);
/* As a shell has it. */
int library_exit_code(const struct th_ending *ending);
/* Of an image that has been pulled, as "pull --json". */
json_t *library_pulled(const struct th_pulled *pulled);
/* Rows of the containers of these names, those of groups among them, in the
 * order in which they are started; group is to be released. */
struct th_group;
int library_ordered(th_hull *hull, const json_t *names, struct th_group *group,
	struct th_error *err);

#endif
