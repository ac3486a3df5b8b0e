/* launch of a group: what a file of several containers says. */
#ifndef CLI_GROUP_LAUNCH_H
#define CLI_GROUP_LAUNCH_H

#include "cli/verb.h"

/* Brings it up; the exit code. */
int group_launch(struct invocation *call, const json_t *file);

#endif
