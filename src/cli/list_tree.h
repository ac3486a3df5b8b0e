/* Containers by the networks that they are on. */
#ifndef CLI_LIST_TREE_H
#define CLI_LIST_TREE_H

#include "cli/verb.h"

/* Prints networks, groups and containers as a tree; containers is what "list
 * --json" has. -1 with an error. */
int list_tree(struct invocation *call, const json_t *containers,
	struct th_error *err);

#endif
