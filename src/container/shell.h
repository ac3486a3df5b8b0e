/* Which shell there is inside. */
#ifndef TH_CONTAINER_SHELL_H
#define TH_CONTAINER_SHELL_H

#include "container/container.h"

/* The path of a bash, or else an sh, as a running container finds them; NULL
 * where it has none. To be freed. */
char *th_shell_of_container(
	const struct th_context *context, const struct th_container_row *row);
/* That of an image, as its containers will find it; NULL where it has none, or
 * with err. */
const char *th_shell_of_image(const struct th_context *context,
	const char *digest, struct th_error *err);

#endif
