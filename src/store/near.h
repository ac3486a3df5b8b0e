/* Names that a mistyped one is near to: for hints. */
#ifndef TH_STORE_NEAR_H
#define TH_STORE_NEAR_H

#include <stdbool.h>
#include <stddef.h>

#include "store/store.h"

#define TH_NEAR_NAME 300

/* The nearest name of a container, or of an image without its tag and with as
 * much of its host as the text has; false where none is near. */
bool th_near_container(
	struct th_store *store, const char *text, char name[TH_NEAR_NAME]);
bool th_near_image(
	struct th_store *store, const char *text, char name[TH_NEAR_NAME]);

#endif
