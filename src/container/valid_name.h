/* Made-up names for containers that were given none. */
#ifndef TH_CONTAINER_VALID_NAME_H
#define TH_CONTAINER_VALID_NAME_H

#include "store/container_state.h"

/* A two-word name that no container of the state has. */
int th_name_new(struct th_db *db, char name[TH_NAME_MAX], struct th_error *err);

#endif
