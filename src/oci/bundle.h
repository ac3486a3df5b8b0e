/* An OCI runtime config.json (OCI Runtime Specification, config.md and
 * config-linux.md): all of the Linux part, read strictly. */
#ifndef TH_OCI_BUNDLE_H
#define TH_OCI_BUNDLE_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/resource.h>
#include <sys/types.h>

#include "base/buffer.h"
#include "base/error.h"
#include "model/name.h"
#include "oci/hooks.h"
#include "oci/resources.h"
#include "oci/seccomp.h"

#define TH_OCI_RUNTIME_VERSION "1.0.2"
#define TH_BUNDLE_MAX (4u << 20)

/* A range of IDs inside and what they are outside. */
struct th_id_map {
	uint32_t inside, outside, size;
};

struct th_id_maps {
	struct th_id_map *items; /* owned */
	size_t count;
};

struct th_mount {
	char *target; /* inside; all owned */
	char *source; /* may be NULL */
	char *type; /* may be NULL for a bind */
	struct th_strings options;
	struct th_id_maps uids, gids; /* of an ID-mapped mount */
};

struct th_rlimit {
	int resource; /* RLIMIT_... */
	struct rlimit limit;
};

struct th_device {
	char *path;
	mode_t mode; /* with the type */
	dev_t dev;
	uid_t uid;
	gid_t gid;
};

/* sched_setattr(2). */
struct th_scheduler {
	bool given;
	int policy; /* SCHED_... */
	int64_t nice, priority;
	uint64_t flags, runtime, deadline, period;
};

struct th_process {
	bool missing; /* it may come before the start only: there is nothing */
	bool terminal;
	uint16_t rows, columns; /* consoleSize; 0: not given */
	uid_t uid;
	gid_t gid;
	gid_t *groups; /* owned */
	size_t group_count;
	bool has_umask;
	mode_t umask;
	struct th_strings args;
	struct th_strings env;
	char *cwd;
	uint64_t bounding, effective, inheritable, permitted, ambient;
	bool no_new_privileges;
	struct th_rlimit *rlimits; /* owned */
	size_t rlimit_count;
	bool has_oom_score;
	int oom_score_adj;
	int io_class, io_level; /* class 0: not given */
	struct th_scheduler scheduler;
	char *apparmor; /* NULL where not given */
	char *selinux;
	/* What of config.json cannot be as it says, but is no failure. */
	struct th_strings warnings;
};

/* A namespace that is there already. */
struct th_join {
	int flag; /* CLONE_NEW... */
	char *path;
};

/* The kinds of namespaces that config.json may ask for; NULL ends. */
extern const char *const th_namespace_types[];
/* The one of a CLONE_NEW... flag. */
const char *th_namespace_type(int flag);

struct th_bundle {
	struct th_process process;
	char *root_path; /* as it stands in the file */
	bool root_readonly;
	char *hostname;
	char *domainname;
	struct th_mount *mounts;
	size_t mount_count;
	int namespaces; /* CLONE_NEW... of the new ones */
	struct th_join joins[8]; /* in the file's order */
	size_t join_count;
	struct th_id_maps uids, gids; /* of the new user namespace */
	struct th_strings masked;
	struct th_strings readonly;
	struct th_device *devices;
	size_t device_count;
	char *cgroup_path; /* NULL where not given */
	struct th_resources resources;
	struct th_seccomp seccomp;
	struct th_strings sysctls; /* "net.ipv4.ip_forward=1" */
	uint64_t propagation; /* MS_... of the root; 0: not given */
	char *mount_label;
	int personality; /* PER_...; -1: not given */
	/* Of a new time namespace, as /proc/self/timens_offsets takes it. */
	char *time_offsets;
	struct th_hooks hooks[TH_HOOK_KINDS];
	struct th_strings annotations; /* key, value, key, value, ... */
};

/* Reads a config.json. Whatever it asks for that the sandbox cannot do, and
 * every member that the specification does not know, is an error that names
 * it (TH_NOT_POSSIBLE or TH_FAILED). */
int th_bundle_parse(const char *data, size_t len, struct th_bundle *bundle,
	struct th_error *err);
/* Reads FOLDER/config.json. */
int th_bundle_read(int folder, struct th_bundle *bundle, struct th_error *err);
/* The same, but of the system-call filter no more is read than that there is
 * one: for whoever has it compiled already. */
int th_bundle_read_unfiltered(
	int folder, struct th_bundle *bundle, struct th_error *err);
void th_bundle_release(struct th_bundle *bundle);
/* Only what it takes to make the container: mounts, devices, limits, rules and
 * hooks. What a further process in it needs stays. */
void th_bundle_release_setup(struct th_bundle *bundle);

/* The value of an annotation; NULL where there is none. */
const char *th_bundle_annotation(
	const struct th_bundle *bundle, const char *key);
/* Both: those that are new and those that are joined. */
int th_bundle_own_namespaces(const struct th_bundle *bundle);

#endif
