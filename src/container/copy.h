/* Copying files and folders in and out of containers. */
#ifndef TH_CONTAINER_COPY_H
#define TH_CONTAINER_COPY_H

#include <stdint.h>
#include <time.h>

#include "base/cancel.h"
#include "container/apart.h"
#include "container/place.h"
#include "layer/tar.h"

enum th_owner {
	TH_OWNER_AUTO, /* inside: the container's user; outside: the caller */
	TH_OWNER_KEEP, /* as at the source */
	TH_OWNER_GIVEN
};

struct th_copy {
	enum th_owner owner;
	uid_t uid; /* of TH_OWNER_GIVEN */
	gid_t gid;
	struct th_cancel cancel;
	/* filled: */
	uint64_t files, bytes;
	uint64_t skipped; /* sockets and devices */
	uint64_t attributes_lost; /* extended ones that the target refuses */
};

/* Copies from one place to another, both open. A folder at the target (or a
 * path that ends with a slash) gets the source under its own name; otherwise
 * the target is the new name. Each file appears whole or not at all. */
int th_copy(const struct th_place *from, const struct th_place *to,
	struct th_copy *copy, struct th_error *err);

/* Copies what is in one folder into another, with its owners. */
int th_copy_entries(
	int from, int to, struct th_copy *copy, struct th_error *err);

/* The source as a tar archive (POSIX pax) written to fd. */
int th_copy_to_tar(const struct th_place *from, int fd, struct th_copy *copy,
	struct th_error *err);
/* A tar archive, read from fd, into the folder at the place. Names that lead
 * out of it are refused. Owners are the archive's where nothing else is said.
 */
int th_copy_from_tar(int fd, const struct th_place *to, struct th_copy *copy,
	struct th_error *err);

/* ---- shared by the parts of it ---- */

/* What whoever interrupts it is told; -1. */
int copy_interrupted(struct th_error *err);

/* What a new file, folder or link gets from its source. */
struct copy_attributes {
	uid_t uid;
	gid_t gid;
	mode_t mode; /* with its type */
	struct timespec times[2];
	bool keep_by_default; /* the owner, where the copy does not say */
	const char *path; /* for messages */
};

/* Gives it to what is open as fd (a symbolic link by O_PATH): never by a name,
 * which whoever can write to the folder may turn into a link to anything of
 * the host. Set-ID bits fall unless the owner is kept: otherwise a program of
 * a container's user would run as the caller. */
int copy_finish(const struct th_copy *copy, const struct th_place *to, int fd,
	const struct copy_attributes *attributes, struct th_error *err);
/* An extended attribute as the container sees it: of capabilities the numbers
 * of user IDs are the host's (capabilities(7), "Namespaced file capabilities").
 * Its value is changed where it lies. False where it means nothing there. */
bool copy_attribute_inside(
	const struct th_place *from, struct th_tar_attribute *attribute);
/* Gives those of an archive's entry to what is open; what the target's file
 * system does not take is counted. */
int copy_set_attributes(struct th_copy *copy, const struct th_place *to, int fd,
	const struct th_tar_entry *entry, struct th_error *err);
/* Makes a symbolic link and opens it with O_PATH; -1 with errno. */
int copy_make_link(const char *target, int dir, const char *name);
/* Does the work of a copy in a child that reaches these folders only
 * (container/apart.h); it ends with the struct th_copy as its reply. */
int copy_apart(const struct th_wall_folder *folders, size_t count,
	int (*work)(void *arg, struct th_buf *reply, struct th_error *err),
	void *arg, uint32_t maker, struct th_copy *copy, struct th_error *err);
/* The place is a pipe, a terminal or the like of the host. */
bool copy_is_stream(const struct th_place *to);
/* What is in the source, a file opened with O_PATH, goes there. */
int copy_to_stream(int source, const struct th_place *from,
	const struct th_place *to, struct th_copy *copy, struct th_error *err);
/* A name in the folder that nobody has, to be renamed when all is written. */
void copy_temporary(char name[48]);

#endif
