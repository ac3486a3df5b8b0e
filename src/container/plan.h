/* What the keeper has to know of its container beside the bundle: the file
 * plan.json in the container's folder (docs/formats.md). */
#ifndef TH_CONTAINER_PLAN_H
#define TH_CONTAINER_PLAN_H

#include <jansson.h>
#include <stdbool.h>

#include "base/buffer.h"
#include "base/error.h"
#include "network/publish.h"

#define TH_PLAN_MAX (4u << 20)
/* How many user and group IDs a container has that has its own. */
#define TH_OWN_IDS 65536u

struct th_plan {
	char *name;
	char *network; /* as the state has it */
	struct th_strings network_texts; /* as they were given */
	struct th_strings layers; /* names of trees, the lowest first */
	struct th_port *ports;
	size_t port_count;
	bool keep;
	bool unprivileged; /* of a user without root's rights */
	bool own_users; /* user IDs of its own, if this host can do that */
	bool users_given; /* and otherwise it does not start */
	bool any_address; /* no guard at its ports (--allow addresses) */
	char *limit; /* as th_limit_format writes it, or NULL */
	char *share;
	struct th_strings devices, allow;
	char *filter; /* which compiled filter, or NULL */
	char *log; /* log settings, or NULL */
	int stop_signal;
	int grace_ms;
	/* For people and for show: the settings as they were given. */
	char *image;
	struct th_strings port_texts;
	struct th_strings mount_texts;
	struct th_strings env; /* KEY=VALUE, those given by hand */
	struct th_strings secrets; /* keys whose values show hides */
	char *settings_user; /* NULL where not given */
	/* What the state has of it that stands nowhere else here, so that its
	 * row can be made again: image-digest, command, restart, probe,
	 * aliases, created. Owned; NULL in former plans. */
	json_t *state;
	json_t *given; /* further settings by their names; owned; may be NULL */
};

/* Reads FOLDER/plan.json. */
int th_plan_read(int folder, struct th_plan *plan, struct th_error *err);
/* Writes it. */
int th_plan_write(int folder, const struct th_plan *plan, struct th_error *err);
void th_plan_release(struct th_plan *plan);
/* Only what is there for people, and the root's layers. */
void th_plan_release_texts(struct th_plan *plan);

#endif
