/* What this host can do for containers: a look at each feature that is used,
 * by trying it in a process that is thrown away. */
#ifndef TH_CONTAINER_ABILITY_H
#define TH_CONTAINER_ABILITY_H

#include <stdbool.h>
#include <stddef.h>
#include <sys/types.h>

#define TH_ABILITIES_MAX 40

enum th_ability_state { TH_ABILITY_THERE, TH_ABILITY_LESS, TH_ABILITY_MISSING };

struct th_ability {
	const char *what;
	const char *use; /* what it is needed for */
	enum th_ability_state state;
	char here[96]; /* what was found */
	char advice[160]; /* how to get it; empty where it is there */
};

/* For whom; name NULL: root. */
struct th_ability_user {
	const char *name;
	uid_t uid;
	gid_t gid;
	bool bus; /* has a D-Bus session */
	const char *store; /* its folder, there or not yet */
};

/* Fills the list; returns how many. Changes nothing on the host, but an
 * unprivileged user's process is in its own user namespace afterwards. */
size_t th_ability_check(const struct th_ability_user *user,
	struct th_ability list[TH_ABILITIES_MAX]);

#endif
