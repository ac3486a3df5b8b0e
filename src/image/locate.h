/* Names without a host: which registries have them. */
#ifndef TH_IMAGE_LOCATE_H
#define TH_IMAGE_LOCATE_H

#include "oci/reference.h"
#include "registry/client.h"
#include "store/store.h"

/* The hosts that a reference may mean: its own; or that of the image of this
 * name which is here already; or all registries marked for search that have it
 * (they are asked at the same time). store may be NULL. notes receives what is
 * to be told: registries that could not be asked. TH_NOT_FOUND with all that
 * were asked where none has it. */
int th_locate(struct th_store *store, const struct th_registry_options *options,
	const struct th_reference *ref, struct th_strings *hosts,
	struct th_strings *notes, struct th_error *err);

#endif
