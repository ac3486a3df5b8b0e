/* Places that files are copied from and to. */
#ifndef TH_CONTAINER_PLACE_H
#define TH_CONTAINER_PLACE_H

#include <stdbool.h>
#include <sys/types.h>

#include "container/container.h"

/* A place on the host, inside a container, or in a volume. */
struct th_place {
	char *container; /* what was written before ":"; NULL on the host */
	bool is_volume; /* it is the name of one */
	char *path; /* owned, as the other */
	/* While it is open: */
	bool open;
	struct th_container_row row;
	int root; /* what the path is resolved in; -1 on the host */
	int lock; /* of a container that does not run, or -1 */
	uid_t uid; /* whose the files become that are copied in */
	gid_t gid;
	/* What the host sees as root inside, where the container has user IDs
	 * of its own; else 0. */
	uint32_t first_id;
};

/* "CONTAINER:/path", "volume:NAME/path" or a path of the host ("./a:b" where it
 * holds a colon). */
int th_place_parse(
	const char *text, struct th_place *place, struct th_error *err);
/* Finds the container and opens its root: the living one, or, while it is kept
 * from being started, the one on the disk. */
int th_place_open(const struct th_context *context, struct th_place *place,
	struct th_error *err);
void th_place_release(const struct th_context *context, struct th_place *place);

/* Opens the path with O_PATH; links are followed, inside a container only
 * within it. -1 with errno. */
int th_place_at(const struct th_place *place, const char *path);

/* The ID that the host sees, as the container counts; and the other way round:
 * -1 where the container has no such ID. */
uint32_t th_place_id_inside(const struct th_place *place, uint32_t id);
int64_t th_place_id_outside(const struct th_place *place, uint32_t id);

#endif
