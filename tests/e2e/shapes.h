/* Every JSON that a test gets is what docs/schema/ says. */
#ifndef E2E_SHAPES_H
#define E2E_SHAPES_H

#include <stdbool.h>

/* Keeps what a command line has answered, if that was asked for as JSON. */
void shapes_keep(char *const *words, const char *out, const char *err);
/* True where one was kept for the schema of this name. */
bool shapes_has(const char *schema);
/* Checks all that was kept; -1 where something is of another shape, which is
 * printed. */
int shapes_check(const char *build);

#endif
