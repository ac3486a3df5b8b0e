/* What this host can do for containers: a look at each feature that is used,
 * by trying it in a process that is thrown away. */
#ifndef TH_CONTAINER_ABILITY_H
#define TH_CONTAINER_ABILITY_H

#include <stddef.h>

#define TH_ABILITIES_MAX 24

enum th_ability_state { TH_ABILITY_THERE, TH_ABILITY_LESS, TH_ABILITY_MISSING };

struct th_ability {
	const char *what;
	const char *use; /* what it is needed for */
	enum th_ability_state state;
	char here[96]; /* what was found */
	char advice[160]; /* how to get it; empty where it is there */
};

/* Fills the list; returns how many. Changes nothing on the host. */
size_t th_ability_check(struct th_ability list[TH_ABILITIES_MAX]);

#endif
