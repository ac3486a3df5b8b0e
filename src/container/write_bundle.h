/* A bundle for any OCI runtime, made of an image and settings. */
#ifndef TH_CONTAINER_WRITE_BUNDLE_H
#define TH_CONTAINER_WRITE_BUNDLE_H

#include "container/container.h"

/* Writes folder/config.json (runtime-spec, config.md) and folder/rootfs, which
 * is the caller's own; absolute. The network is the host's where the settings
 * name none; TH_USAGE for volumes and networks of ours, which a folder cannot
 * hold. Files of an unprivileged caller's bundle are his, and in its user
 * namespace he is the program's user. TH_IN_USE where the folder is there and
 * not empty; after a failure there is nothing new. problems: all that is wrong
 * with the settings, as for th_container_create. */
int th_bundle_write(const struct th_context *context,
	struct th_settings *settings, const char *folder,
	struct th_problems *problems, struct th_error *err);

#endif
