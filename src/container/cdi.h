/* Devices by name: what vendors describe in files below /etc/cdi and
 * /var/run/cdi (Container Device Interface Specification). */
#ifndef TH_CONTAINER_CDI_H
#define TH_CONTAINER_CDI_H

#include <jansson.h>

#include "base/buffer.h"
#include "base/error.h"

/* Applies the edits of the named device, and those of its file, to an OCI
 * config.json. folders: where to look, the most important last. applied: the
 * files whose common edits were carried out already, and are not again.
 * TH_NOT_FOUND with what there is; TH_USAGE where two files of one folder
 * describe it. */
int th_cdi_apply(const char *name, const char *const *folders,
	struct th_strings *applied, json_t *config, struct th_error *err);

/* One device node of the host into config.json, with the right to use it:
 * access of "rwm". host NULL: the same path. */
int th_device_add(json_t *config, const char *path, const char *host,
	const char *access, struct th_error *err);

#endif
