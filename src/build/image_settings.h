/* What an image does when it is run: settings of containers, as far as the
 * config of an image has a place for them (OCI Image Specification,
 * config.md). */
#ifndef TH_BUILD_IMAGE_SETTINGS_H
#define TH_BUILD_IMAGE_SETTINGS_H

#include <jansson.h>

#include "base/buffer.h"
#include "base/error.h"

/* Of all: NULL, or an empty list, leaves what there is. */
struct th_image_settings {
	bool has_entrypoint, has_command; /* also where they are empty */
	struct th_strings entrypoint, command;
	struct th_strings env; /* KEY=VALUE */
	struct th_strings ports; /* "80", "53/udp", "80=8080" */
	struct th_strings volumes; /* paths inside */
	struct th_strings labels; /* KEY=VALUE */
	char *user, *workdir; /* owned */
	char *stop; /* "signal=INT,grace=30s"; owned */
};

void th_image_settings_release(struct th_image_settings *settings);

/* Reads --port and --mount texts for the two lists: what is outside is not for
 * an image to say. TH_USAGE. */
int th_image_settings_port(struct th_image_settings *settings, const char *text,
	struct th_error *err);
int th_image_settings_mount(struct th_image_settings *settings,
	const char *text, struct th_error *err);

/* Changes an image's config document; TH_USAGE where a setting is wrong. */
int th_image_settings_apply(const struct th_image_settings *settings,
	json_t *document, struct th_error *err);

#endif
