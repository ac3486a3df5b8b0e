/* YAML documents as the JSON values that they stand for: for files that others
 * write in either form. */
#ifndef TH_BASE_YAML_JSON_H
#define TH_BASE_YAML_JSON_H

#include <jansson.h>

#include "base/buffer.h"
#include "base/error.h"

/* Reads the one document in text; name is for messages. Plain scalars are null,
 * booleans and numbers where they look like it (YAML 1.2, "Core Schema"; with
 * a leading 0 a number is octal), all others are texts. Aliases are refused.
 * *doc is a new reference. */
int th_yaml_to_json(const char *name, const struct th_buf *text, json_t **doc,
	struct th_error *err);

#endif
