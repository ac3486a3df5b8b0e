/* The set-up and take-down of the end-to-end tests' world. */
#ifndef TESTS_WORLD_H
#define TESTS_WORLD_H

#include <stdbool.h>

/* Goes into namespaces of its own. Returns in a child of their first process;
 * that one reaps orphans and ends with the child's code. */
void world_enter(const char *build);
/* Before and after each test: a fresh folder, store and registry; nothing
 * may be left. */
void world_begin(void);
void world_end(void);
/* After the last test. */
void world_leave(void);

/* True where the unprivileged user's control group has all controllers. */
bool world_has_controllers(void);

#endif
