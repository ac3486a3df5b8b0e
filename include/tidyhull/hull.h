/* A store that is opened for a caller: what all other calls need first.
 *
 * Unless a header says otherwise: calls return 0, or -1 with the error; text
 * is UTF-8; JSON documents come as text that the caller frees with
 * th_hull_free (NULL where the call fails), in the shapes of docs/json.md;
 * names of objects are names, IDs, the beginning of an ID, or one of these
 * behind "container:", "image:", "volume:", "network:" or "group:".
 *
 * A hull is for one thread at a time; several may be open. For an unprivileged
 * caller, opening one with files or starts moves the whole process into another
 * user namespace, which takes a process with a single thread
 * (user_namespaces(7)). */
#ifndef TIDYHULL_HULL_H
#define TIDYHULL_HULL_H

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
	TH_TO_FETCH = 4 /* registries may ask for logins */
};

/* All may be 0. Texts are copied. */
struct th_opening {
	const char *root; /* the store; NULL: the caller's usual one */
	const char *config; /* a configuration file instead of the usual ones */
	const char *programs; /* the folder with tidyhull-keeper and -pilot */
	const char *actor; /* what acts, for the history: "berth planner" */
	int purposes; /* enum th_purpose */
	/* Reads the environment, as the library does not; NULL: there is
	 * none. */
	const char *(*env)(const char *name);
	/* Something the caller should know beside errors: a line or two. */
	void (*notice)(void *owner, const char *text);
	/* How far a pull, push or pack is; total_bytes 0: not known yet. */
	void (*progress)(
		void *owner, uint64_t done_bytes, uint64_t total_bytes);
	void *owner; /* given to both */
};

/* NULL with the error. opening NULL: all as usual. */
th_hull *th_hull_open(const struct th_opening *opening, th_error *error);
void th_hull_close(th_hull *hull);
/* Ends what takes long as soon as it can; from any thread or a signal handler.
 * It stays so. */
void th_hull_cancel(th_hull *hull);
/* The folder of the store; valid as long as the hull. */
const char *th_hull_root(const th_hull *hull);
/* Frees a text that a call has given. */
void th_hull_free(char *text);
/* The library's version: "0.1.0". */
const char *th_hull_version(void);

#ifdef __cplusplus
}
#endif

#endif
