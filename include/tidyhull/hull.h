/* A store that is opened for a caller: what all other calls need first.
 *
 * Unless a header says otherwise: calls return 0, or -1 with the error; text
 * is UTF-8; documents are values of jansson in the shapes of docs/json.md, a
 * new reference for the caller (NULL where the call fails), and the place for
 * one may be NULL where nobody wants it; names of objects are names, IDs, the
 * beginning of an ID, or one of these behind "container:", "image:",
 * "session:", "volume:", "network:" or "group:".
 *
 * A hull is for one thread at a time; several may be open. For an unprivileged
 * caller, opening one with files or starts moves the whole process into another
 * user namespace, which takes a process with a single thread
 * (user_namespaces(7)). */
#ifndef TIDYHULL_HULL_H
#define TIDYHULL_HULL_H

#include <jansson.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include <tidyhull/error.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct th_hull th_hull; /* opaque */

/* What is going to be done with it, as a set. */
enum th_purpose {
	TH_TO_LOOK = 0, /* lists, documents, logs */
	TH_TO_ACT = 1, /* files of images and containers are touched */
	TH_TO_START = 2, /* containers are started, which may need networks */
	TH_TO_FETCH = 4, /* registries may ask for logins */
	TH_TO_START_MADE = 8, /* only containers that are made already */
	TH_TO_CHECK = 16, /* the store may be damaged */
	TH_TO_REPAIR = 32, /* and is to be mended */
	TH_WITHOUT_STORE =
		64 /* none is opened: registries, bundles, the host */
};

/* A part of what is transferred. */
struct th_progress {
	const char *digest; /* of the layer */
	const char *phase; /* a word of docs/json.md */
	uint64_t done_bytes, size_bytes;
	/* When its transfer began (CLOCK_MONOTONIC; 0: not yet), and with how
	 * much of it here already. */
	int64_t began_ms;
	uint64_t began_bytes;
};

/* All may be 0. Texts are copied. */
struct th_opening {
	const char *root; /* the store; NULL: the caller's usual one */
	const char *config; /* a configuration file instead of the usual ones */
	/* A read-only folder of layers that are unpacked already (docs/
	 * configuration.md); NULL: as the environment or the configuration
	 * says. */
	const char *layers_from;
	const char *keeper, *pilot; /* paths of the programs; NULL: installed */
	const char *actor; /* what acts, for the history: "berth planner" */
	int purposes; /* enum th_purpose */
	/* Reads the environment, as the library does not; NULL: there is
	 * none. */
	const char *(*env)(const char *name);
	/* Something the caller should know beside errors: a line or two. */
	void (*notice)(void *owner, const char *text);
	/* How far a pull or push is, a part for each layer. */
	void (*progress)(
		void *owner, const struct th_progress *parts, size_t count);
	/* How far an act is that reads, writes or removes much: packing,
	 * capturing, copying, checking, sweeping. all_bytes 0: nobody knows how
	 * much it will be; both 0: it is over. Often; not at all where it is
	 * short. */
	void (*working)(void *owner, uint64_t done_bytes, uint64_t all_bytes);
	/* An image that a container needs has been pulled: {"name", "from",
	 * "notes", ...}. */
	void (*pulled)(void *owner, const json_t *pulled);
	/* Which of several registries (a list of hosts) is meant by a name
	 * without one: 0 with its number, 1 where none was chosen, -1 where
	 * nobody can be asked, as without such a function. */
	int (*choose)(void *owner, const char *name, const json_t *hosts,
		size_t *choice);
	void *owner; /* given to all of these */
};

/* NULL with the error. opening NULL: all as usual. */
th_hull *th_hull_open(const struct th_opening *opening, th_error *error);
void th_hull_close(th_hull *hull);
/* Ends what takes long as soon as it can; from any thread or a signal handler.
 * It stays so. */
void th_hull_cancel(th_hull *hull);
/* The folder of the store; valid as long as the hull. */
const char *th_hull_root(const th_hull *hull);
/* The library's version: "0.1.0". */
const char *th_hull_version(void);

/* {"root", "run" and "run-time" (folders of running containers), "config" (the
 * file that was given, or null), "leave-keys", "unprivileged", "user", "uid",
 * "gid", "home", "registries" (how many are configured), "logins" (hosts),
 * "service" (a service manager waits for word), "detached" (the disk of the
 * store cannot be written)}. */
int th_hull_about(th_hull *hull, json_t **doc, th_error *error);
/* What this host can do, as "doctor --json" has it, without the programs.
 * It is tried in this process, which can do nothing else afterwards. */
int th_hull_host(th_hull *hull, json_t **doc, th_error *error);
/* Removes a folder that a whole store lies in, which nothing may use any more:
 * also what belongs to subordinate IDs of an unprivileged caller, in whose user
 * namespace this process is afterwards. */
int th_hull_erase(th_hull *hull, const char *folder, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
