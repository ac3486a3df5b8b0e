/* A new image from what a container has changed. */
#ifndef TH_BUILD_CAPTURE_H
#define TH_BUILD_CAPTURE_H

#include "build/image_settings.h"
#include "container/container.h"
#include "oci/manifest.h"

struct th_capture {
	const char *name; /* of the image, in full; NULL for none */
	/* Beside those of the container; they win. */
	const struct th_image_settings *settings;
	enum th_compression compression;
	int level;
	/* The image's time, which later times of files become as well, in
	 * seconds since 1970; negative: now, and files keep theirs. */
	int64_t time_s;
	/* filled: */
	char digest[TH_DIGEST_TEXT];
	uint64_t size_bytes, plain_bytes; /* of the new layer; 0 without one */
	uint64_t sockets; /* left out */
	struct th_strings mounts; /* whose files are not in it; owned */
	struct th_strings hidden; /* variables whose values are not; owned */
};

/* One that runs is paused meanwhile. The same container at the same time gives
 * the same image. Release in any case. */
int th_capture(const struct th_context *context,
	const struct th_container_row *row, struct th_capture *capture,
	struct th_error *err);
void th_capture_release(struct th_capture *capture);

/* The layer that a container's own files make, and where mounts have left
 * places: for builds, whose containers have ended. newest as in
 * layer/difference.h. */
struct th_new_layer;
int th_capture_layer(const struct th_context *context,
	const struct th_container_row *row, struct timespec newest,
	struct th_new_layer *layer, uint64_t *sockets, struct th_error *err);

/* "2026-11-05T08:00:00Z" of seconds since 1970. */
#define TH_CREATED_TEXT 32
void th_created_text(int64_t time_s, char text[TH_CREATED_TEXT]);

#endif
