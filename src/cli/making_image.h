/* What capture and build have in common: how layers are written, and when. */
#ifndef CLI_MAKING_IMAGE_H
#define CLI_MAKING_IMAGE_H

#include "cli/verb.h"
#include "oci/manifest.h"

/* SOURCE_DATE_EPOCH (reproducible-builds.org): seconds since 1970; -1 where it
 * is not set. */
int epoch_read(int64_t *time_s, struct th_error *err);

/* --compress, or what is usual. */
int compression_read(struct invocation *call, enum th_compression *compression,
	int *level, struct th_error *err);

/* A name for an image, as the state has it. */
int image_name_read(const char *text, char name[TH_REFERENCE_MAX + 256],
	struct th_error *err);

#endif
