/* Which of several registries is meant: a person is asked, a script gets an
 * error that lists them. */
#ifndef CLI_CHOOSE_H
#define CLI_CHOOSE_H

#include "cli/verb.h"

/* As the context's choose. */
int choose_registry(void *owner, const struct th_reference *ref,
	const struct th_strings *hosts, size_t *choice, struct th_error *err);

/* Gives a reference without a host that of the registry that is meant (store as
 * for th_locate); notes are told at once. */
int choose_host(struct invocation *call, struct th_store *store,
	struct th_reference *ref, struct th_error *err);

/* Asks whether to go on, on the terminal; false where nobody answers yes. */
bool choose_yes(const char *question);

#endif
