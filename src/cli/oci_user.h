/* "oci ... --of USER": for whom an engine acts. */
#ifndef TH_CLI_OCI_USER_H
#define TH_CLI_OCI_USER_H

#include "base/error.h"

/* Becomes that user, whose states they are, if it is another one: hooks that a
 * user's bundle names must not run with the rights of an engine that cleans up
 * behind the user's job. Where the states lie must not hang on the environment
 * of one of the calls, either. Returns 0 where this process is what it is to
 * be, does not return where it starts anew as such a one, and -1 with an
 * error. */
int oci_act_for(const char *user, struct th_error *err);

#endif
