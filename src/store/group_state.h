/* Groups in the state: containers that were described by one file. A group is
 * there for as long as a container of it is. */
#ifndef TH_STORE_GROUP_STATE_H
#define TH_STORE_GROUP_STATE_H

#include "store/container_state.h"

#define TH_AFTER_TEXT 1024
#define TH_SETTINGS_DIGEST 1024

/* What a container is in its group. */
struct th_member {
	char container[TH_ID_LENGTH + 1];
	char group[TH_NAME_MAX];
	char member[TH_NAME_MAX]; /* its name in the file; copies share it */
	/* Members that it is started after: "ledger=ready gauge=running". */
	char after[TH_AFTER_TEXT];
	/* Digests of all that the file says of it: "env=1f0a... port=...". */
	char settings[TH_SETTINGS_DIGEST];
};

struct th_group_row {
	char name[TH_NAME_MAX];
	int64_t containers, running;
};

/* Notes that the container belongs to a group; its ID there does not count. */
int th_member_set(struct th_db *db, const char *container,
	const struct th_member *member, struct th_error *err);
/* 1, 0 where the container belongs to none, -1. */
int th_member_get(struct th_db *db, const char *container,
	struct th_member *member, struct th_error *err);
/* Those of a group, oldest first; all of all groups where group is NULL. Those
 * that are about to take a place, or have lost it, are left out. To be freed.
 */
int th_member_list(struct th_db *db, const char *group,
	struct th_member **members, size_t *count, struct th_error *err);
/* All groups by name, or the one with the name; to be freed. */
int th_group_list(struct th_db *db, const char *name,
	struct th_group_row **rows, size_t *count, struct th_error *err);

#endif
