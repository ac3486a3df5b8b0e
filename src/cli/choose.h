/* Questions that people are asked; scripts are told what to say instead. */
#ifndef CLI_CHOOSE_H
#define CLI_CHOOSE_H

#include <jansson.h>
#include <stdbool.h>
#include <stddef.h>

/* Which of several registries is meant, for the opening of a hull. */
int choose_registry(
	void *owner, const char *name, const json_t *hosts, size_t *choice);

/* True where it is answered with yes; false where nobody can be asked. */
bool choose_yes(const char *question);

#endif
