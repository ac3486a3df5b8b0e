/* launch of a group: what a file of several containers says. */
#ifndef CLI_GROUP_LAUNCH_H
#define CLI_GROUP_LAUNCH_H

#include "cli/verb.h"
#include "group/settings_file.h"

/* Brings it up; the exit code. */
int group_launch(struct invocation *call, struct th_settings_file *file);

#endif
