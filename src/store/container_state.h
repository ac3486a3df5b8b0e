/* Containers, their events, ports, addresses and sessions in the state. */
#ifndef TH_STORE_CONTAINER_STATE_H
#define TH_STORE_CONTAINER_STATE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "base/random.h"
#include "model/cause.h"
#include "model/name.h"
#include "model/network_use.h"
#include "model/policy.h"
#include "model/port.h"
#include "model/probe.h"
#include "oci/digest.h"
#include "oci/reference.h"
#include "store/database.h"

/* The words of the OCI Runtime Specification, and one of ours. */
enum th_state {
	TH_STATE_CREATED,
	TH_STATE_RUNNING,
	TH_STATE_PAUSED,
	TH_STATE_STOPPED,
	TH_STATE_WAITING
};

struct th_container_row {
	char id[TH_ID_LENGTH + 1];
	char name[TH_NAME_MAX];
	char image[TH_DIGEST_TEXT];
	char image_name[TH_REFERENCE_MAX];
	char command[256]; /* for people; may be cut */
	/* "host", "none", "own", "with:ID", or names with commas between. */
	char network[TH_NETWORK_TEXT];
	enum th_state state;
	enum th_outcome outcome;
	int code;
	struct th_cause cause; /* of the last end */
	bool keep;
	int pid; /* of the first process, as the host sees it */
	char boot[40];
	int64_t created_us, started_us, ended_us;
	char restart[TH_POLICY_TEXT]; /* the policy; "" is never */
	int tries; /* restarts in a row */
	int restarts; /* all since a person's start */
	int64_t next_us; /* when it is tried again, while it waits */
	bool wanted; /* started, and nobody has said that it is enough */
	char probe[TH_PROBE_TEXT]; /* "" without one */
	char health[12]; /* "", warming, ready, ailing */
	char cgroup[256];
	char aliases[256]; /* further names on its network, as " one two" */
	char build[TH_ID_LENGTH + 1]; /* that it was made for, or "" */
};

/* A published port, as it is held while the container runs. */
struct th_port_row {
	char container[TH_ID_LENGTH + 1];
	char protocol[4]; /* tcp or udp */
	char address[TH_ADDRESS_TEXT];
	int host_port;
	int port;
};

enum th_wanted { TH_WANTED_AS_IT_WAS, TH_WANTED, TH_NOT_WANTED };

/* One step of the state machine (machine.h). */
struct th_change {
	enum th_state to;
	enum th_outcome outcome;
	int code;
	int pid;
	const char *boot; /* may be NULL */
	struct th_cause cause;
	const char *actor; /* "root: tidyhull stop", "keeper", ... */
	const struct th_port_row *ports; /* those held from now on */
	size_t port_count;
	int64_t at_us; /* 0: now */
	enum th_wanted wanted;
	int tries;
	int64_t next_us; /* of a step to waiting */
	const char *health; /* NULL: "" */
	const char *cgroup; /* NULL: as it was */
};

struct th_event_row {
	int64_t number;
	int64_t time_us;
	char container[TH_ID_LENGTH + 1];
	char name[TH_NAME_MAX];
	char from[16], to[16];
	struct th_cause cause;
	char actor[128];
	char outcome[20]; /* of a step to stopped or waiting */
	int code;
};

const char *th_state_word(enum th_state state);

/* Adds a container in the state created, with its first event. TH_IN_USE
 * where the name is taken. */
int th_state_add(struct th_db *db, const struct th_container_row *row,
	const char *actor, struct th_error *err);
/* By its whole ID: 1, 0, -1. */
int th_state_get(struct th_db *db, const char *id, struct th_container_row *row,
	struct th_error *err);
/* By its name: 1, 0, -1. */
int th_state_get_named(struct th_db *db, const char *name,
	struct th_container_row *row, struct th_error *err);
/* All whose name is text or whose ID begins with it; all of them, oldest
 * first, where text is NULL. *rows is to be freed. */
int th_state_list(struct th_db *db, const char *text,
	struct th_container_row **rows, size_t *count, struct th_error *err);
/* Only those that are up, and those of builds. */
int th_state_list_up(struct th_db *db, struct th_container_row **rows,
	size_t *count, struct th_error *err);
/* The IDs of all that have any of it, in their order. */
enum th_have {
	TH_HAVE_PORTS,
	TH_HAVE_ADDRESSES,
	TH_HAVE_NETWORKS,
	TH_HAVE_GROUP,
	TH_HAVE_COUNT
};
int th_state_list_having(struct th_db *db, enum th_have what,
	struct th_strings *ids, struct th_error *err);
/* The names of so many characters, or up to within more or less. */
int th_state_names_like(struct th_db *db, int length, int within,
	struct th_strings *names, struct th_error *err);
/* How many there are, in any state. */
int th_state_count(struct th_db *db, int64_t *count, struct th_error *err);
/* Carries out a step and records it as an event, in one transaction. A step
 * to another state than running gives up ports and address. */
int th_state_change(struct th_db *db, const char *id,
	const struct th_change *change, struct th_error *err);
/* Takes the container out of the state, with its ports, address and
 * sessions; its events stay. */
int th_state_remove(struct th_db *db, const char *id, const char *actor,
	struct th_error *err);

/* The same for one that is not kept, with the step that it would have made as
 * its last event. */
int th_state_discard(struct th_db *db, const char *id,
	const struct th_change *end, struct th_error *err);

/* Notes ports that the container's keeper has bound; whoever else has them in
 * the state has died. */
int th_state_hold_ports(struct th_db *db, const char *id,
	const struct th_port_row *ports, size_t count, struct th_error *err);
/* Ports and addresses of a start that came to nothing. */
int th_state_forget_start(
	struct th_db *db, const char *id, struct th_error *err);
/* 1 where the container has ports or addresses, 0, -1. */
int th_state_began(struct th_db *db, const char *id, struct th_error *err);
/* True where any container is on a network; or where that is not known. */
bool th_state_has_networks(struct th_db *db);
/* The IDs of those that have some and do not run: a keeper is starting them, or
 * was killed while it did. */
int th_state_list_began(
	struct th_db *db, struct th_strings *ids, struct th_error *err);

/* The ports held, of one container (or of all: id NULL); to be freed. */
int th_state_ports(struct th_db *db, const char *id, struct th_port_row **rows,
	size_t *count, struct th_error *err);
/* Addresses of a running container; empty where it has none. */
int th_state_addresses(struct th_db *db, const char *id,
	char address4[TH_ADDRESS_TEXT], char address6[TH_ADDRESS_TEXT],
	struct th_error *err);
/* Records what is no step to another state: a limit changed, a probe failed.
 * health is what it is from now on; NULL: as it was. */
int th_state_note(struct th_db *db, const char *id,
	const struct th_cause *cause, const char *actor, const char *health,
	struct th_error *err);
/* The same, at a time that is over. */
int th_state_note_at(struct th_db *db, const char *id, int64_t at_us,
	const struct th_cause *cause, const char *actor, const char *health,
	struct th_error *err);
/* Another name: TH_IN_USE where it is taken. */
int th_state_rename(struct th_db *db, const char *id, const char *name,
	const char *actor, struct th_error *err);
/* Another restart policy and probe (NULL: as it was). */
int th_state_adjust(struct th_db *db, const char *id, const char *restart,
	const char *probe, struct th_error *err);

/* The events behind the number, oldest first: of one container (its ID; NULL:
 * of all); to be freed. */
int th_state_events(struct th_db *db, const char *id, int64_t behind,
	struct th_event_row **rows, size_t *count, struct th_error *err);
/* How many events a container has at most before older ones become one. */
#define TH_KEEP_EVENTS 500
#define TH_KEEP_EVENTS_MIN 50
/* Keeps that many of each from now on, and fifty times as many of those that
 * are gone. */
int th_state_keep_events(struct th_db *db, int64_t keep, struct th_error *err);
/* The ID that the latest container of the name had, also one that is removed
 * by now: 1, 0, -1. */
int th_state_last_named(struct th_db *db, const char *name,
	char id[TH_ID_LENGTH + 1], struct th_error *err);

/* A session: another command in a running container. */
struct th_session_row {
	char id[TH_ID_LENGTH + 1];
	char container[TH_ID_LENGTH + 1];
	char container_name[TH_NAME_MAX];
	char command[256];
	char user[TH_NAME_MAX]; /* inside */
	char actor[128];
	bool background;
	int pid, code;
	int64_t started_us, ended_us; /* 0: it runs */
};
int th_state_session_add(struct th_db *db, const struct th_session_row *row,
	struct th_error *err);
int th_state_session_end(
	struct th_db *db, const char *session, int code, struct th_error *err);
/* How many ended sessions of a container the state knows at most, as SQL. */
#define TH_KEEP_SESSIONS "200"
/* Forgets older ones, and says which: their logs are the caller's to remove. */
int th_state_fold_sessions(struct th_db *db, const char *container,
	struct th_strings *ids, struct th_error *err);
/* All of one container (NULL: of every one), or those whose ID begins with
 * text (NULL: all), oldest first; to be freed. */
int th_state_sessions(struct th_db *db, const char *container, const char *text,
	struct th_session_row **rows, size_t *count, struct th_error *err);

#endif
