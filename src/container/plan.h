/* What the keeper has to know of its container beside the bundle: the file
 * plan.json in the container's folder (docs/formats.md). */
#ifndef TH_CONTAINER_PLAN_H
#define TH_CONTAINER_PLAN_H

#include <jansson.h>
#include <stdbool.h>

#include "base/buffer.h"
#include "base/error.h"
#include "model/settings.h"
#include "store/container_state.h"

#define TH_PLAN_MAX (4u << 20)
/* How many user and group IDs a container has that has its own. */
#define TH_OWN_IDS 65536u

struct th_plan {
	char *name;
	char *network; /* as the state has it */
	struct th_network_use networks[TH_NETWORKS_MAX];
	size_t network_count;
	struct th_strings layers; /* names of trees, the lowest first */
	struct th_port *ports;
	size_t port_count;
	struct th_mount_setting *mounts;
	size_t mount_count;
	bool keep;
	bool unprivileged; /* of a user without root's rights */
	bool own_users; /* user IDs of its own, if this host can do that */
	bool users_given; /* and otherwise it does not start */
	int allow, share; /* sets of TH_ALLOW_..., TH_SHARE_... */
	struct th_limit limit;
	struct th_log_settings log;
	struct th_policy policy;
	struct th_probe probe;
	bool has_life; /* policy and probe; a former plan may lack them */
	char *filter; /* which compiled filter, or NULL */
	int stop_signal;
	int grace_ms;
	/* For people and for show. */
	char *image;
	struct th_strings devices;
	struct th_strings env; /* KEY=VALUE, those given by hand */
	struct th_strings secrets; /* keys whose values show hides */
	char *settings_user; /* NULL where not given */
	/* What the state has of it that stands nowhere else here, so that its
	 * row can be made again: image-digest, command, aliases, created.
	 * Owned; NULL in former plans. */
	json_t *state;
	json_t *given; /* further settings by their names; owned; may be NULL */
};

/* Reads FOLDER/plan.json. */
int th_plan_read(int folder, struct th_plan *plan, struct th_error *err);
/* The same, with policy and probe as the state has them, where a former plan
 * lacks them. */
int th_plan_read_whole(int folder, const struct th_container_row *row,
	struct th_plan *plan, struct th_error *err);
/* Its mounts and ports as they are written in settings; appended. -1 without
 * memory. */
int th_plan_mount_texts(const struct th_plan *plan, struct th_strings *texts);
int th_plan_port_texts(const struct th_plan *plan, struct th_strings *texts);
/* Writes it. */
int th_plan_write(int folder, const struct th_plan *plan, struct th_error *err);
void th_plan_release(struct th_plan *plan);
/* Only what is there for people, and the root's layers. */
void th_plan_release_texts(struct th_plan *plan);

#endif
