/* User namespaces: their ID mappings, and descriptors of them. */
#ifndef TH_SANDBOX_IDMAP_H
#define TH_SANDBOX_IDMAP_H

#include <sys/types.h>

#include "oci/bundle.h"

/* Writes the maps of a process in a new user namespace, as one that has the
 * privilege to. Where the caller has a single ID, groups are given up. */
int th_idmap_write(pid_t pid, const struct th_id_maps *uids,
	const struct th_id_maps *gids, struct th_error *err);

/* A user namespace with the maps and no process: for ID-mapped mounts.
 * Returns its descriptor or -1. */
int th_idmap_namespace(const struct th_id_maps *uids,
	const struct th_id_maps *gids, struct th_error *err);

/* The map in a file like /proc/self/uid_map: how many lines were read, at most
 * TH_ID_MAP_LINES. "outside" is as this process sees it. */
#define TH_ID_MAP_LINES 340
size_t th_idmap_read(const char *path, struct th_id_map lines[TH_ID_MAP_LINES]);

/* Mappings whose outer IDs are those of the namespace around this one, as its
 * caller knows them, become mappings to this one's. TH_NOT_POSSIBLE where an ID
 * is none of this one's. map: /proc/self/uid_map or gid_map. */
int th_idmap_from_caller(
	const char *map, struct th_id_maps *maps, struct th_error *err);

/* True where this process is in a user namespace that is not the host's. */
bool th_idmap_is_own(void);

#endif
