/* An OCI image layout as chandler serves it (image-layout.md): its names, and
 * which blobs each of them has. Calls may come from several threads. */
#ifndef CHANDLER_LAYOUT_H
#define CHANDLER_LAYOUT_H

#include <jansson.h>
#include <pthread.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "oci/digest.h"

struct layout {
	int folder;
	pthread_mutex_t mutex;
	json_t *index;
	json_t *blobs; /* {"selwick/gauge": {"sha256:...": true}} */
};

int layout_open(const char *path, struct layout *layout, struct th_error *err);
void layout_close(struct layout *layout);

/* The manifest of NAME:TAG or NAME@DIGEST. */
bool layout_find(struct layout *layout, const char *name, const char *wanted,
	char digest[TH_DIGEST_TEXT], char type[128]);
/* The tags of a name, sorted; false where the name is unknown. */
bool layout_tags(
	struct layout *layout, const char *name, struct th_strings *tags);
/* All names, sorted. */
void layout_names(struct layout *layout, struct th_strings *names);

/* Whether the name has the blob; and opening it, -1 where there is none. */
bool layout_has_blob(
	struct layout *layout, const char *name, const char *digest);
int layout_open_blob(struct layout *layout, const char *digest, uint64_t *size);
/* The name has the blob from now on. */
void layout_add_blob(
	struct layout *layout, const char *name, const char *digest);

/* Keeps a manifest under a tag or its digest. Where blobs that it names are
 * missing, *missing receives the first and the manifest is not kept. */
int layout_put_manifest(struct layout *layout, const char *name,
	const char *wanted, const char *type, const char *data, size_t len,
	char digest[TH_DIGEST_TEXT], char missing[TH_DIGEST_TEXT],
	struct th_error *err);

#endif
