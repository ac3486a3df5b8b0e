/* The table of verbs. To add one: write verb_NAME.c with its struct verb, and
 * add it here and in verbs.c; help, parser and completion follow. */
#ifndef CLI_VERBS_H
#define CLI_VERBS_H

#include "cli/verb.h"

extern const struct verb verb_create, verb_demo, verb_doctor, verb_exec,
	verb_find, verb_help_verb, verb_kill, verb_launch, verb_list,
	verb_login, verb_logout, verb_logs, verb_pack, verb_pause, verb_peek,
	verb_ports, verb_processes, verb_pull, verb_push, verb_remove,
	verb_resume, verb_run, verb_show, verb_start, verb_stop, verb_sweep,
	verb_oci, verb_adjust, verb_meter, verb_tag, verb_unpack, verb_why,
	verb_attach, verb_copy, verb_enter, verb_rename, verb_recreate,
	verb_unit, verb_restart, verb_timeline, verb_wait, verb_new,
	verb_changes, verb_capture, verb_build, verb_complete;

/* All verbs in the order of the help; ended by NULL. */
extern const struct verb *const verbs[];

const struct verb *verb_lookup(const char *name);
/* Says that there is no such verb, and which may be meant (meant.c). */
void verb_unknown(const char *name, bool json);
/* The verb of the name, or the only one that people call so; NULL. */
const struct verb *verb_called(const char *word);
/* Prints the help of one verb on stdout. */
void verb_help(const struct verb *verb);

#endif
