/* What the parts of devices by name share. */
#ifndef TH_CONTAINER_CDI_PARTS_H
#define TH_CONTAINER_CDI_PARTS_H

#include "container/cdi.h"

/* Carries out the containerEdits of holder, a device or a whole file. */
int cdi_edit(json_t *config, const json_t *holder, struct th_error *err);

#endif
