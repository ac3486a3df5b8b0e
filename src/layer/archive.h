/* An archive in a file, compressed or not: by its first bytes. */
#ifndef TH_LAYER_ARCHIVE_H
#define TH_LAYER_ARCHIVE_H

#include "base/source.h"

struct th_archive; /* opaque */

/* Reads the descriptor (borrowed) from where it stands. NULL without memory. */
struct th_archive *th_archive_new(int fd);
/* What it decompresses to; valid as long as the archive. */
struct th_source *th_archive_source(struct th_archive *archive);
void th_archive_free(struct th_archive *archive);

#endif
