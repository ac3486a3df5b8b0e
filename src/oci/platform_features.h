/* What images may want of an operating system (config.md, image-index.md). */
#ifndef TH_OCI_PLATFORM_FEATURES_H
#define TH_OCI_PLATFORM_FEATURES_H

#include <jansson.h>

#include "oci/manifest.h"

/* Reads "os.features" of an object into platform->feature. */
int th_platform_features(const json_t *object, const char *where,
	struct th_platform *platform, struct th_error *err);

#endif
