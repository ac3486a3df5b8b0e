/* A store that is opened for a caller: who that is, the folders, the
 * configuration, logins and registries, the user namespace and the pilot that
 * an unprivileged caller needs. What every front end begins with. */
#ifndef TH_SESSION_HULL_H
#define TH_SESSION_HULL_H

#include "check/check.h"
#include "container/container.h"

/* Who calls, whichever user namespace this process is in by now. */
struct th_caller {
	bool unprivileged; /* not root */
	uid_t uid;
	gid_t gid;
	char name[64];
	const char *home; /* "" where there is none; borrowed */
	const char *scratch; /* $TMPDIR; NULL without; borrowed */
	const char *pmix; /* $PMIX_SERVER_TMPDIR; so too */
};

/* Whether what is to be done may need the caller's networks. */
enum th_needs_networks {
	TH_NEEDS_NO_NETWORKS,
	TH_NEEDS_NETWORKS_OF_STORE, /* if any container is on one */
	TH_NEEDS_NETWORKS
};

struct th_hull_options {
	/* The environment, which the core does not read itself. */
	const char *(*env)(const char *name);
	const char *root; /* the store; NULL: found in the environment */
	const char *config; /* the configuration file; NULL: found */
	const char *layers_from; /* a lender; NULL: found */
	const char *keeper, *pilot; /* paths of the programs */
	/* What the caller should know beside errors: two lines at most. May be
	 * NULL. */
	void (*notice)(void *owner, const char *text);
	void *owner;
	atomic_bool *cancel; /* may be NULL */
	struct th_work *work; /* may be NULL */
	bool logins; /* registries may ask for some */
	bool look; /* no file of an image or container is touched */
	enum th_needs_networks networks;
	bool checks, repairs; /* the store may be damaged; and is mended */
};

struct th_hull {
	struct th_hull_options options;
	struct th_caller caller;
	struct th_strings folders; /* owned: the next three */
	const char *root, *run; /* the store, and its folder of sockets */
	const char *run_time; /* what a restart of the host takes away */
	/* The caller's home is on a network file system, and the store where
	 * this host has it alone. */
	bool away_from_home;
	const char *config_path; /* NULL where none was given */
	struct th_config config;
	struct th_logins logins;
	char *logins_path;
	struct th_registry_options registries;
	struct th_context context; /* its store is NULL until it is opened */
	struct th_findings findings; /* of checks, from the opening on */
	char actor[128];
};

/* Finds out who calls, and the folders. Options are copied; what they point to
 * is borrowed for as long as the hull is there. */
int th_hull_begin(struct th_hull *hull, const struct th_hull_options *options,
	struct th_error *err);
/* Reads configuration and, where the options say so, logins. */
int th_hull_open_registries(struct th_hull *hull, struct th_error *err);
/* Opens the store, with all that is needed for it: the registries, the user
 * namespace. act is what is done, for the history ("tidyhull stop"). An
 * unprivileged caller's whole process is in another user namespace from then
 * on. */
int th_hull_open_store(
	struct th_hull *hull, const char *act, struct th_error *err);
/* True where the caller has a D-Bus session. */
bool th_hull_has_bus(const struct th_hull *hull);
/* Closes and frees all; once more is as good. */
void th_hull_end(struct th_hull *hull);

#endif
