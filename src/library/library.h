/* What the parts of the public library share: docs are given as text, objects
 * found by their names. For the library module only. */
#ifndef TH_LIBRARY_LIBRARY_H
#define TH_LIBRARY_LIBRARY_H

#include <jansson.h>

#include "session/hull.h"
#include "tidyhull/tidyhull.h"

/* What a call begins with that gives a document: NULL where it fails. */
void library_begin(char **json);
/* Gives the document as text and lets it go; 0, or -1 without memory. json may
 * be NULL. */
int library_give(json_t *doc, char **json, struct th_error *err);
/* The same as the only member of an object. */
int library_give_list(
	const char *name, json_t *list, char **json, struct th_error *err);

/* The one container of the name. */
int library_container(th_hull *hull, const char *name,
	struct th_container_row *row, struct th_error *err);

/* All problems as one error, a line each, with the code of the first; -1. */
int library_problems(struct th_problems *problems, struct th_error *err);

/* Settings of an object, with the names of the options of create; texts point
 * into the document. */
int library_settings(const json_t *doc, const struct th_caller *caller,
	struct th_settings *settings, struct th_error *err);

#endif
