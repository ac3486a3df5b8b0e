/* The keeper of one running container: its parts share this state.
 *
 * One run of the program after the other, as the restart policy has it:
 *
 *   prepare.c  what is held from the first run to the last: lock, ports, log
 *   confine.c  what it gives up for good, and between its works
 *   users.c    user IDs of its own
 *   start.c    everything up to the running program
 *   network.c  its networks, names and ports
 *   name_servers.c  what its resolv.conf leads to
 *   serve.c    the loop: what is due, the end of a run, the next one
 *   clients.c  commands that are connected
 *   request.c  what they ask for
 *   stop.c     signals, and the stop with its grace period
 *   streams.c  the program's streams: to the log and to attached clients
 *   session.c  further commands in the container
 *   probe.c    asking whether it does its work
 *   notify.c   telling a service manager
 *   pause.c    freezing and thawing it
 *   adjust.c   other limits, policy or probe while it runs
 *   record.c   what the state is to know, as it can take it
 *   keep.c     an end that the state cannot take yet
 *   close.c    taking away, in steps, what a run leaves on the host
 *   finish.c   what is recorded and told at the end of a run, and of the last
 *              one
 */
#ifndef TH_KEEPER_KEEPER_H
#define TH_KEEPER_KEEPER_H

#include <stdbool.h>
#include <sys/stat.h>
#include <sys/types.h>

#include "base/loop.h"
#include "ipc/handed.h"
#include "ipc/words.h"
#include "container/log.h"
#include "container/outcome.h"
#include "container/plan.h"
#include "model/policy.h"
#include "model/probe.h"
#include "container/root.h"
#include "network/network.h"
#include "network/pilot.h"
#include "network/relay.h"
#include "network/relaying.h"
#include "oci/bundle.h"
#include "sandbox/cgroup.h"
#include "sandbox/sandbox.h"
#include "store/container_state.h"
#include "store/store.h"

/* Without --limit processes=: enough for any service, and no fork bomb takes
 * the host's process IDs. */
#define PROCESSES_DEFAULT 4096

struct keeper;
struct session;
struct record;

/* A message on its way. */
struct waiting {
	struct waiting *next;
	enum th_message_type type;
	uint32_t len;
	char data[];
};

struct client {
	struct keeper *keeper;
	struct client *next, **place;
	struct th_watch watch;
	bool attached; /* gets the program's output */
	bool left; /* said that its input is not at its end */
	bool holds; /* the container is paused for as long as it is there */
	bool waits_for_end; /* of the container, or of its session */
	bool waits_for_ready, waits_for_start;
	struct session *session;
	struct th_buf parts; /* of a request that comes in several */
	/* Messages that did not fit into the socket yet, the first one first.
	 */
	struct waiting *pending, **pending_end;
	size_t pending_count;
};

/* A client that reads slowly, after the container is done. */
struct late {
	struct late *next;
	int fd;
	struct waiting *first; /* owned; what it was told before, or NULL */
	struct th_ending ending;
};

struct session {
	struct keeper *keeper;
	struct session *next, **place;
	struct th_watch watch; /* its process */
	struct client *client; /* NULL when it has gone */
	char id[TH_ID_LENGTH + 1];
	pid_t pid; /* 0 while it is set up */
	struct th_joining joining;
	struct th_session_row *row; /* for the state; NULL once it is there */
	struct th_size size;
	/* In the background: */
	bool background;
	struct th_watch out, err;
	struct th_log log;
};

/* A probe that is made, or is to be made. */
struct probing {
	struct th_probe probe;
	struct th_health health;
	int64_t next_ms; /* when it is asked again */
	int64_t until_ms; /* while it is asked: how long */
	bool asking;
	struct inner *inside; /* sockets of the container's network */
	int target; /* which address is tried */
	struct th_watch watch; /* the socket, or the command's process */
	struct th_joining joining; /* of the command, before it has a pid */
	bool is_joining;
	pid_t pid;
	bool connecting;
	char answer[64]; /* the beginning of it */
	size_t answer_len;
	bool judged; /* by its beginning; the rest of it is let pass */
	char verdict[80]; /* what is wrong, or "" */
	size_t passed; /* bytes of the rest */
};

/* Its processes are on their way to be frozen. */
struct pausing {
	struct client *client; /* who has asked for it; NULL: nobody */
	bool hold; /* for as long as the client is there */
	char actor[128];
	int64_t next_ms, until_ms;
};

/* A run that has ended: what is left of it goes in steps. */
struct closing {
	bool group; /* the control group is still there */
	bool is_start; /* it was no run, but a start that failed: */
	bool held_up; /* by others, for the moment */
	struct th_cause cause;
	struct th_error *why; /* owned; NULL: no memory was left for it */
	struct th_ending ending;
	bool devices; /* the network's are on their way, or what they leave */
	int tries; /* to take the devices away */
	int64_t next_ms, until_ms;
};

enum phase {
	PHASE_RUN, /* the program runs, or has just ended */
	PHASE_WAIT, /* between two runs */
	PHASE_KEEP, /* the end is known, and stands nowhere but here */
	PHASE_END /* no run comes any more */
};

struct keeper {
	/* given */
	const char *id;
	const char *actor; /* who asked for the start */
	bool attached, input;
	bool bound; /* ends with the command that has started it */
	const char *notify; /* the service manager's socket, or "" */
	int last_code; /* of the last run, as a shell has it */
	bool successor; /* the ports come from the container before it */
	struct th_size size;
	int score; /* of its container, when memory runs out */
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
	struct th_policy policy;
	enum phase phase;
	int tries; /* restarts in a row */
	int64_t next_ms; /* of the clock that never jumps: the next run */
	int64_t rest_ms; /* when the database may be closed, or 0 */
	int64_t held_up_ms; /* since when others hold up the next run, or 0 */
	int64_t names_ms; /* when neighbours are told; 0: they know all */
	int names_tries;
	int64_t names_us; /* since when there is something to tell */
	char again_by[128]; /* who asked for the next run, or "" */
	/* of one run */
	int64_t started_ms;
	int overlay_fd, netns_fd;
	/* user IDs of its own: -1 and 0 where it has none */
	int ids_lock, ids_namespace, store_mount;
	int *mount_fds;
	uint32_t first_id;
	struct th_root_layers layers; /* of the overlay that it makes itself */
	struct th_joined joined;
	struct th_pilot pilot; /* held from the first run to the last */
	struct th_watch pilot_end;
	/* To the ports, and to name servers on the host's loopback. */
	struct th_relaying relaying, names_relaying;
	struct th_watch relaying_end;
	int relaying_tries; /* how often it was started in this run */
	bool led; /* packets from outside are led to the ports */
	struct probing probing;
	struct th_cgroup cgroup;
	char group_path[TH_CGROUP_PATH]; /* "" before it is made */
	struct th_buf filter; /* compiled; empty: none, or in the file */
	int filter_fd; /* of the sealed one, or -1 */
	char *bundle_path;
	struct th_sandbox_options options;
	struct th_relay *closed_relay; /* while nothing is behind the ports */
	int (*port_fds)[2];
	int handed[TH_HANDED_MAX]; /* sockets that the program gets itself */
	size_t port_count; /* of those, as they were bound */
	struct record *records, **records_end;
	int records_count;
	int64_t records_ms; /* when they are tried again */
	int64_t records_lost;
	int outcome_fd; /* container/outcome.h */
	struct th_end end; /* of PHASE_KEEP and PHASE_END */
	bool end_written; /* to the file */
	struct th_ending ending; /* of the last run */
	int64_t run_us; /* when this run began, as the state has it */
	int64_t keep_until_ms; /* of PHASE_KEEP, where the file has it, too */
	struct th_handed handed_on; /* what it takes its ports from */
	struct th_port_row *port_rows; /* what is held, for the state */
	size_t port_row_count;
	struct th_sandbox sandbox;
	struct th_watch process, signals, listener;
	struct stat socket; /* the listener's file, as it was made */
	struct th_watch out, err; /* the console is out alone */
	struct th_watch in; /* the program's input, while we write */
	struct th_buf in_pending;
	bool in_end;
	struct client *clients;
	struct session *sessions;
	int blocked; /* clients with a pending message */
	int64_t read_ms; /* when one of those has read something */
	struct late *late; /* clients that have not read the end yet */
	/* how it ends */
	bool ended;
	int64_t ended_ms;
	int status;
	int stands_for; /* the signal that a hard kill was sent for */
	bool discarding; /* nothing is kept: the folder is to be removed */
	bool stopping, by_force;
	bool by_person; /* the stop is one that holds */
	/* The last signal that a person sent, which may be why it ends. */
	int sent;
	bool sent_holds; /* as a stop does */
	int64_t sent_ms;
	char sent_by[128];
	bool ailing; /* stopped because of its probe */
	bool once_more; /* the stop is half of a restart */
	int sessions_ended; /* with the program */
	bool paused; /* its control group is frozen */
	struct pausing pausing;
	struct closing closing;
	int64_t force_ms;
	char ended_by[128]; /* the actor of a stop or kill, or "" */
	struct th_cause end_cause; /* of a stop */
};

/* prepare.c */
int keeper_prepare(struct keeper *keeper, struct th_error *err);
/* Plan, bundle and policy as they are now. */
int keeper_load(struct keeper *keeper, struct th_error *err);
/* confine.c: before anything of the container runs. */
int keeper_confine(struct keeper *keeper, struct th_error *err);
/* Nothing is to be done for the moment: see th_rights_lower(). */
void keeper_rest(void);
/* users.c: user IDs of its own, where the plan says so; and back. */
int keeper_own_users(struct keeper *keeper, struct th_error *err);
void keeper_share_users(struct keeper *keeper);
/* start.c: actor asks for it. */
int keeper_start(
	struct keeper *keeper, const char *actor, struct th_error *err);
/* The compiled filter for another process in the container; NULL: it has none.
 * It is not kept in memory where a file has it. */
int keeper_filter(struct keeper *keeper, const struct th_buf **filter,
	struct th_error *err);
void keeper_drop_filter(struct keeper *keeper);
/* Another try to start what waits: 0 where it runs. */
int keeper_start_again(struct keeper *keeper);
/* network.c: what must be there before the process is, and what needs it. */
int keeper_find_network(struct keeper *keeper, struct th_error *err);
int keeper_join_network(struct keeper *keeper, struct th_error *err);
/* Between two runs: whoever connects to a port is told that nobody is there. */
int keeper_close_ports(struct keeper *keeper, struct th_error *err);
void keeper_end_relays(struct keeper *keeper);
/* Packets from outside end at the host again. */
void keeper_unforward_ports(struct keeper *keeper);
/* Lets the network of a run go; what it has on the host goes in steps
 * (close.c). Then: true where that is done. */
void keeper_leave_network(struct keeper *keeper);
bool keeper_unplug_step(struct keeper *keeper, bool by_force);
/* close.c: the group first, then keeper_conclude_run; the devices beside what
 * comes. */
void keeper_close_run(struct keeper *keeper);
void keeper_close_devices(struct keeper *keeper);
/* When there is something to do (of the clock that never jumps; 0: nothing),
 * doing it, and all of it at once. */
int64_t keeper_close_due(const struct keeper *keeper);
void keeper_close_work(struct keeper *keeper);
void keeper_close_all(struct keeper *keeper);
/* Those on the same networks learn that it has come or gone: a moment later, so
 * that many who come at once are told together. */
void keeper_tell_neighbours(struct keeper *keeper);
void keeper_tell_them_now(struct keeper *keeper);
/* resolver.c: the container's resolv.conf, and what it leads to. */
int keeper_set_resolver(struct keeper *keeper, struct th_error *err);
void keeper_end_resolver(struct keeper *keeper);
/* clients.c */
void keeper_add_client(struct keeper *keeper, int fd, bool attached);
void keeper_drop_client(struct client *client);
/* How it ended, now or by keeper_tell_late: the client is to be dropped. */
void keeper_tell_end(struct client *client, const struct th_ending *ending);
/* Gives the slow ones what is left for them, as they read it. When nothing of
 * the container is held any more. */
void keeper_tell_late(struct keeper *keeper);
void keeper_tell(struct client *client, enum th_message_type type,
	const void *data, size_t len);
void keeper_tell_error(struct client *client, const struct th_error *err);
void keeper_tell_ending(struct client *client, enum th_message_type type,
	const struct th_ending *ending);
int keeper_listen(struct keeper *keeper, struct th_error *err);
/* Writes what the program has written to the log, and says so. */
void keeper_record(struct client *client);
void keeper_record_sessions(struct keeper *keeper);
/* Makes lock and socket anew where somebody has removed them. */
void keeper_renew(struct keeper *keeper);
/* keep.c: until the state, or at least the file, has the end. */
void keeper_keep(struct keeper *keeper);
void keeper_handle_kept(
	struct client *client, const struct th_message *message);
/* Tells a database that was made anew what it has to know. */
void keeper_take_up(struct client *client);
/* What is true of the container, whatever the state says. */
void keeper_tell_state(struct client *client);
/* request.c */
void keeper_handle(struct client *client, const struct th_message *message,
	int fds[TH_CHANNEL_FDS]);
/* stop.c */
void keeper_signal(struct keeper *keeper, int number);
void keeper_begin_stop(struct keeper *keeper, int number, int64_t grace_ms,
	const struct th_cause *cause, const char *actor);
/* The same, and it stays due to be started again. */
void keeper_end_for_host(struct keeper *keeper, int number, int64_t grace_ms,
	enum th_cause_kind cause, const char *actor);
/* record.c: from now on the database and locks are waited for a moment only.
 */
void keeper_record_init(struct keeper *keeper);
/* A step to another state; its texts are copied. Nothing is lost where the
 * state cannot take it now. */
void keeper_record_change(
	struct keeper *keeper, const struct th_change *change);
/* The end of one that is not kept: its row goes. */
void keeper_record_discard(
	struct keeper *keeper, const struct th_change *change);
/* A session; the row is taken over. */
void keeper_record_joined(struct keeper *keeper, struct th_session_row *row);
/* The end of a session. */
void keeper_record_session(
	struct keeper *keeper, const char *session, int code);
/* Tries what waits; and when (of the clock that never jumps; 0: never). */
void keeper_record_work(struct keeper *keeper);
int64_t keeper_record_due(const struct keeper *keeper);
void keeper_record_release(struct keeper *keeper);
/* Records what is no step to another state. */
void keeper_note(struct keeper *keeper, const struct th_cause *cause);
void keeper_note_by(
	struct keeper *keeper, const struct th_cause *cause, const char *actor);
/* The same; health is what it is from now on. */
void keeper_note_health(struct keeper *keeper, const struct th_cause *cause,
	const char *health);
/* Kills it: whoever it was started for has gone. */
void keeper_end_bound(struct keeper *keeper);
/* serve.c: whoever waits for the start hears of it; why: it failed. */
void keeper_tell_start(struct keeper *keeper, const struct th_error *why);
void keeper_serve(struct keeper *keeper);
int keeper_watch_process(struct keeper *keeper, struct th_error *err);
/* streams.c */
int keeper_make_streams(
	struct keeper *keeper, int inside[3], struct th_error *err);
/* Programs that open /dev/stdout by its name need the right to it. */
void keeper_give_stream(
	const struct keeper *keeper, const struct th_process *process, int fd);
void keeper_watch_streams(struct keeper *keeper);
void keeper_update_streams(struct keeper *keeper);
void keeper_take_input(
	struct keeper *keeper, const char *data, size_t len, bool end);
bool keeper_streams_open(const struct keeper *keeper);
void keeper_close_streams(struct keeper *keeper);
/* Makes a client one that gets the output, from this moment on; the place in
 * the log where it begins is told first. */
void keeper_attach(struct client *client, const struct th_message *message);
/* session.c */
void keeper_start_session(struct client *client,
	const struct th_message *message, int fds[TH_CHANNEL_FDS]);
void keeper_end_sessions(struct keeper *keeper);
struct session *keeper_find_session(struct keeper *keeper, const char *id);
void keeper_remove_session_log(struct keeper *keeper, const char *id);
/* Milliseconds until one that is set up has taken too long, or -1; and what is
 * to be done then. */
int64_t keeper_sessions_due(const struct keeper *keeper);
void keeper_sessions_work(struct keeper *keeper);
/* probe.c */
void keeper_probe_begin(struct keeper *keeper);
void keeper_probe_end(struct keeper *keeper);
/* Milliseconds until it has something to do, or -1; and doing it. */
int64_t keeper_probe_due(const struct keeper *keeper);
void keeper_probe_work(struct keeper *keeper);
/* notify.c: what the service manager is told, where one has started it. */
void keeper_notify_started(struct keeper *keeper);
/* An answer of the probe; why: what was wrong. */
void keeper_notify_health(struct keeper *keeper, bool good, const char *why);
void keeper_notify_stopping(struct keeper *keeper);
void keeper_notify_waiting(struct keeper *keeper);
/* pause.c */
void keeper_pause_request(
	struct client *client, const struct th_message *message);
/* Lets it go on where the command that paused it for a while has gone. */
void keeper_end_hold(struct keeper *keeper);
/* Lets a paused container go on, so that it can hear that it is to end. */
void keeper_thaw(struct keeper *keeper);
bool keeper_is_pausing(const struct keeper *keeper);
int64_t keeper_pause_due(const struct keeper *keeper);
void keeper_pause_work(struct keeper *keeper);
/* Whoever wanted it goes without an answer. */
void keeper_forget_pause(struct client *client);
/* adjust.c */
void keeper_adjust(struct client *client, const struct th_message *message);
void keeper_reload(struct client *client);
/* finish.c: the end of a run, and what is left to do when nothing of it runs
 * any more: then keeper->phase says what comes. */
void keeper_end_run(struct keeper *keeper);
void keeper_conclude_run(struct keeper *keeper);
/* The end of the wait; holds: by a person's stop. */
void keeper_end_wait(struct keeper *keeper, enum th_cause_kind cause,
	const char *actor, bool holds);
/* A try that failed while the container waited; whoever waits for the start
 * hears of it. Where others hold it up, it is tried again soon. */
void keeper_fail_run(
	struct keeper *keeper, const struct th_error *why, bool held_up);
/* Overlay, users and networks of a run; more than once is as good as once. */
void keeper_release_run(struct keeper *keeper);
/* What the last run leaves to be given back. */
void keeper_leave(struct keeper *keeper);
/* Undoes a start that failed, and records why. */
void keeper_abort(struct keeper *keeper, const struct th_error *why);

#endif
