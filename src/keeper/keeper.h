/* The keeper of one running container. Each part has a header with its own
 * state; what is here is held for all of them.
 *
 * One run of the program after the other, as the restart policy has it:
 *
 *   life.c        the states, what happens in each, and the loop
 *   prepare.c     what is held from the first run to the last: lock, plan
 *   confine.c     what it gives up for good, and between its works
 *   start.c       everything up to the running program
 *   own_ids.c     user IDs of its own
 *   kept_filter.c its system-call filter
 *   plugs.c       its networks, names and relays
 *   name_servers.c  what its resolv.conf leads to
 *   ports.c       its published ports
 *   clients.c     commands that are connected
 *   request.c     what they ask for
 *   stopping.c    signals, and the stop with its grace period
 *   streams.c     the program's streams: to the log and to attached clients
 *   sessions.c    further commands in the container
 *   probing.c     asking whether it does its work
 *   notify.c      telling a service manager
 *   pausing.c     freezing and thawing it
 *   adjust.c      other limits, policy or probe while it runs
 *   recording.c   what the state is to know, as it can take it
 *   ending.c      what is recorded and told at the end of a run, and of the
 *                 last one
 *   keep.c        an end that the state cannot take yet
 *   closing.c     taking away, in steps, what a run leaves on the host
 *   renew.c       lock and socket, where somebody has removed them
 *   scratch.c     memory that goes back
 */
#ifndef TH_KEEPER_KEEPER_H
#define TH_KEEPER_KEEPER_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/loop.h"
#include "container/plan.h"
#include "container/root.h"
#include "keeper/clients.h"
#include "keeper/closing.h"
#include "keeper/ending.h"
#include "keeper/kept_filter.h"
#include "keeper/life.h"
#include "keeper/own_ids.h"
#include "keeper/pausing.h"
#include "keeper/plugs.h"
#include "keeper/ports.h"
#include "keeper/probing.h"
#include "keeper/recording.h"
#include "keeper/sessions.h"
#include "keeper/stopping.h"
#include "keeper/streams.h"
#include "model/policy.h"
#include "oci/bundle.h"
#include "sandbox/cgroup.h"
#include "sandbox/sandbox.h"
#include "store/container_state.h"
#include "store/store.h"

/* Without --limit processes=: enough for any service, and no fork bomb takes
 * the host's process IDs. */
#define PROCESSES_DEFAULT 4096

struct keeper {
	/* given */
	const char *id;
	const char *actor; /* who asked for the start */
	bool attached, input;
	bool confined;
	bool bound; /* ends with the command that has started it */
	const char *notify; /* the service manager's socket, or "" */
	bool successor; /* the ports come from the container before it */
	struct th_size size;
	int score; /* of its container, when memory runs out */
	/* held while it runs */
	struct th_store *store;
	struct th_loop loop;
	struct th_watch signals;
	int lock_fd;
	int folder_fd;
	struct th_plan plan;
	struct th_bundle bundle;
	struct th_container_row row;
	struct th_policy policy;
	enum keeper_state state;
	struct next_run next;
	int64_t rest_ms; /* when the database may be closed, or 0 */
	/* of one run */
	int64_t started_ms;
	int overlay_fd;
	struct th_root_layers layers; /* of the overlay that it makes itself */
	struct th_cgroup cgroup;
	char group_path[TH_CGROUP_PATH]; /* "" before it is made */
	char *bundle_path;
	struct th_sandbox_options options;
	struct th_sandbox sandbox;
	struct th_watch process;
	/* the parts' own */
	struct own_ids own_ids;
	struct kept_filter kept_filter;
	struct plugs plugs;
	struct ports ports;
	struct clients clients;
	struct streams streams;
	struct sessions sessions;
	struct probing probing;
	struct pausing pausing;
	struct stopping stopping;
	struct recording recording;
	struct last_run last;
	struct closing closing;
};

/* prepare.c */
int keeper_prepare(struct keeper *keeper, struct th_error *err);
/* Plan, bundle, policy and probe as they are now. */
int keeper_load(struct keeper *keeper, struct th_error *err);
/* confine.c: before anything of the container runs; once for all runs. */
int keeper_confine(struct keeper *keeper, struct th_error *err);
/* Nothing is to be done for the moment: see th_rights_lower(). */
void keeper_rest(void);
/* start.c: actor asks for it. */
int keeper_start(
	struct keeper *keeper, const char *actor, struct th_error *err);
/* Another try to start what waits: 0 where it runs. */
int keeper_start_again(struct keeper *keeper);
/* request.c */
void keeper_handle(struct client *client, const struct th_message *message,
	int fds[TH_CHANNEL_FDS]);
/* adjust.c */
void keeper_adjust(struct client *client, const struct th_message *message);
void keeper_reload(struct client *client);
/* renew.c: lock and socket anew where somebody has removed them. */
void keeper_renew(struct keeper *keeper);
/* notify.c: what the service manager is told, where one has started it. */
void keeper_notify_started(struct keeper *keeper);
/* An answer of the probe; why: what was wrong. */
void keeper_notify_health(struct keeper *keeper, bool good, const char *why);
void keeper_notify_stopping(struct keeper *keeper);
void keeper_notify_waiting(struct keeper *keeper);

#endif
