/* An OCI image layout as chandler serves it (image-layout.md). */
#ifndef CHANDLER_LAYOUT_H
#define CHANDLER_LAYOUT_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"
#include "oci/digest.h"

struct layout {
	int folder;
	json_t *index;
};

int layout_open(const char *path, struct layout *layout, struct th_error *err);
void layout_close(struct layout *layout);

/* True where an image of the index has that name. */
bool layout_has_name(const struct layout *layout, const char *name);
/* The manifest of NAME:TAG or NAME@DIGEST. */
bool layout_find(const struct layout *layout, const char *name,
	const char *wanted, char digest[TH_DIGEST_TEXT], char type[128]);
/* The answer to a tags list, to be freed; NULL where the name is unknown. */
char *layout_tags(const struct layout *layout, const char *name);
/* Opens a blob; -1 where there is none. */
int layout_open_blob(
	const struct layout *layout, const char *digest, uint64_t *size);

#endif
