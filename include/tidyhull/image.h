/* Images: from registries and files, and back. */
#ifndef TIDYHULL_IMAGE_H
#define TIDYHULL_IMAGE_H

#include <stdbool.h>
#include <stddef.h>

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* {"images": [...]} */
int th_images(th_hull *hull, char **json, th_error *error);
/* One, with its configuration and layers. */
int th_image(th_hull *hull, const char *name, char **json, th_error *error);
/* Pulls a reference, with its registry's host or found in the searched ones;
 * platform "os/arch[/variant]", NULL: this host's. What is here already is not
 * fetched again, and a pull that was interrupted goes on. json gets {"name",
 * "digest", "layers", "already-here", "transferred", "notes"}; it may be
 * NULL. */
int th_image_fetch(th_hull *hull, const char *reference, const char *platform,
	char **json, th_error *error);
/* Sends it to a reference with a host. */
int th_image_send(th_hull *hull, const char *name, const char *reference,
	th_error *error);
/* All images of a packed file or an OCI image layout. */
int th_image_unpack(th_hull *hull, const char *path, th_error *error);
/* Packs images into one file; TH_IN_USE where it is there, unless replace says
 * so. */
int th_image_pack(th_hull *hull, const char *const *names, size_t count,
	const char *path, bool replace, th_error *error);
/* A further name for it. */
int th_image_name(
	th_hull *hull, const char *name, const char *new_name, th_error *error);
/* Takes the name away, and the image with its last one. */
int th_image_delete(th_hull *hull, const char *name, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
