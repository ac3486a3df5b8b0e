/* The keeper of one running container: its parts share this state.
 *
 *   start.c    everything up to the running program
 *   serve.c    the loop: clients, signals, the stop with its grace period
 *   streams.c  the program's streams: to the log and to attached clients
 *   session.c  further commands in the container
 *   pause.c    freezing and thawing it
 *   adjust.c   other limits while it runs
 *   finish.c   what is recorded, told and cleaned when it ends
 */
#ifndef TH_KEEPER_KEEPER_H
#define TH_KEEPER_KEEPER_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/loop.h"
#include "keeper/channel.h"
#include "keeper/log.h"
#include "keeper/plan.h"
#include "network/relay.h"
#include "oci/bundle.h"
#include "sandbox/cgroup.h"
#include "sandbox/sandbox.h"
#include "store/container_state.h"
#include "store/store.h"

struct keeper;
struct session;

struct client {
	struct keeper *keeper;
	struct client *next, **place;
	struct th_watch watch;
	bool attached; /* gets the program's output */
	bool waits_for_end; /* asked for a stop */
	struct session *session;
	/* A message that did not fit into the socket yet. */
	struct th_message *pending;
};

struct session {
	struct keeper *keeper;
	struct session *next, **place;
	struct th_watch watch; /* its process */
	struct client *client; /* NULL when it has gone */
	char id[TH_ID_LENGTH + 1];
	pid_t pid;
};

struct keeper {
	/* given */
	const char *id;
	const char *actor; /* who asked for the start */
	bool attached, input;
	struct th_size size;
	/* held while it runs */
	struct th_store *store;
	struct th_loop loop;
	int lock_fd;
	int folder_fd;
	struct th_plan plan;
	struct th_bundle bundle;
	struct th_container_row row;
	struct th_log log;
	bool log_reported;
	int overlay_fd, netns_fd;
	struct th_cgroup cgroup;
	char group_path[TH_CGROUP_PATH]; /* "" before it is made */
	struct th_buf filter; /* compiled; empty: none */
	char *bundle_path;
	struct th_sandbox_options options;
	struct th_relay *relay;
	int (*port_fds)[2];
	struct th_port_row *port_rows; /* what is held, for the state */
	size_t port_row_count;
	struct th_sandbox sandbox;
	struct th_watch process, signals, listener;
	struct th_watch out, err; /* the console is out alone */
	struct th_watch in; /* the program's input, while we write */
	struct th_buf in_pending;
	bool in_end;
	struct client *clients;
	struct session *sessions;
	int blocked; /* clients with a pending message */
	/* how it ends */
	bool ended;
	int64_t ended_ms;
	int status;
	int stands_for; /* the signal that a hard kill was sent for */
	bool stopping, by_force;
	bool paused; /* its control group is frozen */
	int64_t force_ms;
	char ended_by[128]; /* the actor of a stop or kill, or "" */
	char end_cause[160];
};

/* start.c */
int keeper_start(struct keeper *keeper, struct th_error *err);
/* serve.c */
void keeper_add_client(struct keeper *keeper, int fd, bool attached);
void keeper_drop_client(struct client *client);
void keeper_tell(struct client *client, enum th_message_type type,
	const void *data, size_t len);
void keeper_serve(struct keeper *keeper);
int keeper_watch_control(struct keeper *keeper, struct th_error *err);
/* streams.c */
int keeper_make_streams(
	struct keeper *keeper, int inside[3], struct th_error *err);
void keeper_watch_streams(struct keeper *keeper);
void keeper_update_streams(struct keeper *keeper);
void keeper_take_input(
	struct keeper *keeper, const char *data, size_t len, bool end);
bool keeper_streams_open(const struct keeper *keeper);
void keeper_close_streams(struct keeper *keeper);
/* session.c */
void keeper_start_session(
	struct client *client, const struct th_message *message, int fds[3]);
void keeper_end_sessions(struct keeper *keeper);
/* pause.c */
void keeper_pause_request(
	struct client *client, const struct th_message *message);
/* Lets a paused container go on, so that it can hear that it is to end. */
void keeper_thaw(struct keeper *keeper);
/* adjust.c */
void keeper_adjust(struct client *client, const struct th_message *message);
/* finish.c */
void keeper_finish(struct keeper *keeper);
/* Undoes a start that failed, and records why. */
void keeper_abort(struct keeper *keeper, const struct th_error *why);

#endif
