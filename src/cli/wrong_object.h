/* Objects that are none, too many or too few, and what was probably meant. */
#ifndef CLI_WRONG_OBJECT_H
#define CLI_WRONG_OBJECT_H

#include "cli/verb.h"

/* Says that the command must stand behind --, with the whole line. Returns -1,
 * as those below. */
int wrong_command(const struct invocation *call, struct th_error *err);
/* Says which object is one too many, with the line that was probably meant. */
int wrong_object(const struct invocation *call, struct th_error *err);
/* Says what the verb needs. */
int too_few_objects(const struct invocation *call, struct th_error *err);
/* "tag mine selwick/gauge", "rename north web": where the first of two is not
 * there and the second is, err's hint is the line the other way round. */
void hint_swapped(const struct invocation *call, struct th_error *err);
/* Before anything is done, as what follows must not happen first: words that
 * say a kind, stand between names or join them, and that nothing is called.
 * Returns an exit code, having told it. */
int objects_refuse(const struct invocation *call);

#endif
