/* Settings files: the options of create, run and launch as YAML. */
#ifndef CLI_SETTINGS_FILE_H
#define CLI_SETTINGS_FILE_H

#include <jansson.h>

#include "cli/verb.h"

/* Reads the file that --settings names, with the values of --given, as the
 * library gives it (tidyhull/container.h). All mistakes are told at once, each
 * with line and column: then err has their code and no message. */
int settings_file_load(
	struct invocation *call, json_t **file, struct th_error *err);
/* Takes what it says of one container into the call, in front of its options,
 * so that those win; image and command too, where none is given. The file must
 * stay. */
int settings_file_merge(
	struct invocation *call, const json_t *container, struct th_error *err);
/* Both, for a file of one container; nothing where there is no --settings. */
int settings_file_read(struct invocation *call, struct th_error *err);

/* The values of --given; to be let go in any case. */
int given_read(
	const struct invocation *call, json_t **given, struct th_error *err);

/* Writes a file that makes the same container again. doc is what show knows of
 * it, fully. Values that are hidden are asked for. */
void settings_file_print(const json_t *doc);
/* The same of several, as a group; each may say in "after" whom it waits for.
 */
void settings_file_print_group(const char *name, const json_t *list);

#endif
