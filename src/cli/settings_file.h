/* Settings files: the options of create, run and launch as YAML. */
#ifndef CLI_SETTINGS_FILE_H
#define CLI_SETTINGS_FILE_H

#include <jansson.h>

#include "cli/verb.h"

/* Takes what --settings names into the call, in front of its options, so that
 * those win; image and command too, where none is given. All mistakes are told
 * at once, each with line and column (TH_USAGE). kept owns the texts. */
int settings_file_read(
	struct invocation *call, struct th_strings *kept, struct th_error *err);

/* Writes a file that makes the same container again. doc is what show knows of
 * it, fully. Values that are hidden are asked for. */
void settings_file_print(const json_t *doc);

#endif
