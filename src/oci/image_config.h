/* The configuration of an image (OCI Image Specification, config.md). */
#ifndef TH_OCI_IMAGE_CONFIG_H
#define TH_OCI_IMAGE_CONFIG_H

#include "base/buffer.h"
#include "base/error.h"
#include "oci/manifest.h"

struct th_image_config {
	struct th_platform platform;
	char created[64]; /* RFC 3339 as it was written, or empty */
	char *user; /* owned; NULL where not given, as all below */
	char *workdir;
	char *stop_signal;
	struct th_strings env; /* KEY=VALUE */
	struct th_strings entrypoint;
	struct th_strings command;
	struct th_strings ports; /* "80/tcp" */
	struct th_strings volumes; /* paths */
	struct th_strings diff_ids; /* the lowest layer's first */
};

/* Reads a config; the diff IDs must be digests. */
int th_image_config_parse(const char *data, size_t len,
	struct th_image_config *config, struct th_error *err);
void th_image_config_release(struct th_image_config *config);

#endif
