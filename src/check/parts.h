/* What the parts of the check share. For the check module only. */
#ifndef TH_CHECK_PARTS_H
#define TH_CHECK_PARTS_H

#include "check/check.h"

struct checking {
	const struct th_context *context;
	bool mend;
	struct th_findings *findings;
	struct th_strings seen; /* blobs */
};

/* True where somebody has had enough: nothing is found any more. */
bool check_cancelled(const struct checking *checking);

/* Adds a finding; mended "" or how. Without memory the last one stands for it.
 */
void check_found(struct checking *checking, enum th_part part, const char *what,
	const char *mended, const char *fmt, ...)
	__attribute__((format(printf, 5, 6)));

/* trees.c: the files of an unpacked layer, against its archive. */
void check_tree_files(struct checking *checking, const char *image,
	const struct th_image_layer *layer);
/* own_files.c: the files of the store's own; root: its folder. */
void check_own_files(struct checking *checking, int root);
/* images.c: rows, blobs, trees; and images of the layout that are no rows. */
int check_images(struct checking *checking, struct th_error *err);
/* containers.c */
int check_containers(struct checking *checking, struct th_error *err);
/* host.c: what runs, and what the host has of this store. */
int check_host(struct checking *checking, struct th_error *err);
/* restore.c: the row of a container, from its folder. */
int check_restore(
	const struct checking *checking, const char *id, struct th_error *err);

#endif
