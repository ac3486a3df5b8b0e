/* Settings files: the options of create, run and launch as YAML. */
#ifndef CLI_SETTINGS_FILE_H
#define CLI_SETTINGS_FILE_H

#include <jansson.h>

#include "cli/verb.h"
#include "group/settings_file.h"

/* Reads the file that --settings names, with the values of --given. All
 * mistakes are told at once, each with line and column: then err has their code
 * and no message. */
int settings_file_load(struct invocation *call, struct th_settings_file *file,
	struct th_error *err);
/* Takes what it says of one container into the call, in front of its options,
 * so that those win; image and command too, where none is given. The file must
 * stay. */
int settings_file_merge(struct invocation *call,
	const struct th_file_container *one, struct th_error *err);
/* Both, for a file of one container; nothing where there is no --settings. */
int settings_file_read(struct invocation *call, struct th_settings_file *file,
	struct th_error *err);

/* Appends the values of --given. */
int given_read(const struct invocation *call, struct th_strings *given,
	struct th_error *err);

/* Writes a file that makes the same container again. doc is what show knows of
 * it, fully. Values that are hidden are asked for. */
void settings_file_print(const json_t *doc);
/* The same of several, as a group; each may say in "after" whom it waits for.
 */
void settings_file_print_group(const char *name, const json_t *list);

#endif
