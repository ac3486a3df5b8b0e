/* What the calls about images share. For the library module only. */
#ifndef TH_LIBRARY_IMAGES_H
#define TH_LIBRARY_IMAGES_H

#include "library/library.h"
#include "oci/reference.h"

/* The registry that has it, where the reference names none; store may be NULL.
 */
int library_locate(th_hull *hull, struct th_store *store,
	struct th_reference *ref, struct th_error *err);
/* Which of several hosts is meant: asks whoever opened the hull. */
int library_choose(void *owner, const struct th_reference *ref,
	const struct th_strings *hosts, size_t *choice, struct th_error *err);
/* Tells whoever opened the hull of an image that is here now. */
void library_tell_pulled(th_hull *hull, const json_t *pulled);
/* A name for an image, as the state has it. */
int library_image_name(const char *text, char name[TH_REFERENCE_MAX + 256],
	struct th_error *err);

#endif
