/* The settings of a container: one vocabulary for options, files, documents and
 * show; as texts, and as what they mean. */
#ifndef TH_MODEL_SETTINGS_H
#define TH_MODEL_SETTINGS_H

#include <jansson.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "model/limit.h"
#include "model/log_settings.h"
#include "model/mount.h"
#include "model/name.h"
#include "model/network_use.h"
#include "model/policy.h"
#include "model/port.h"
#include "model/probe.h"

struct th_member;

enum th_fetch { TH_FETCH_MISSING, TH_FETCH_ALWAYS, TH_FETCH_NEVER };

/* Safe defaults that are taken away (docs/safety.md). */
enum th_allow {
	TH_ALLOW_SYSCALLS = 1, /* no system-call filter */
	TH_ALLOW_PRIVILEGES = 2, /* programs may gain privileges */
	TH_ALLOW_KERNEL = 4, /* nothing of the kernel is masked */
	TH_ALLOW_DEVICES = 8, /* every device of the host may be used */
	TH_ALLOW_OLD_SOCKETS = 16, /* 32-bit socketcall, any socket family */
	TH_ALLOW_ADDRESSES = 32 /* to send from addresses of others */
};

/* What batch work has of its caller inside. */
enum th_share {
	TH_SHARE_HOME = 1,
	TH_SHARE_CWD = 2,
	TH_SHARE_USER = 4,
	TH_SHARE_ENV =
		8, /* put into the settings by who reads the environment */
	TH_SHARE_SCRATCH = 16, /* the folder of $TMPDIR */
	TH_SHARE_SHM = 32, /* /dev/shm, */
	TH_SHARE_IPC = 64, /* and System V's and POSIX's queues and segments */
	TH_SHARE_PMIX = 128 /* the folder where ranks meet their manager */
};

/* Whose user IDs it has on the host. */
enum th_users { TH_USERS_AUTO, TH_USERS_OWN, TH_USERS_HOST };

enum th_reaper { TH_REAPER_AUTO, TH_REAPER_YES, TH_REAPER_NO };

struct th_settings {
	/* As given; to be filled by the caller, who owns what it points to.
	 * The lists are owned by the settings. */
	const char *name; /* NULL: one is made up */
	const char *build; /* the build that it is made for, or NULL */
	/* The ID of the container whose place it takes, name and all, and the
	 * lock of the command that does it; NULL mostly (replace.h). */
	const char *replaces, *maker;
	bool replaces_running;
	/* Networks that will have been made by then; or NULL. */
	const struct th_strings *coming_networks;
	bool image_later; /* its image is yet to be built */
	bool with_later; /* whose network it shares is yet to be made */
	/* IDs of containers that will have given their ports back; or NULL. */
	const struct th_strings *leaving;
	const struct th_member *member; /* of a group, or NULL */
	const char *image;
	const char *digest; /* the one to take for it that is here, or NULL */
	struct th_strings command; /* what stands behind -- */
	struct th_strings port_texts;
	struct th_strings mount_texts;
	struct th_strings env; /* KEY=VALUE */
	struct th_strings secrets; /* keys of values that show hides */
	struct th_strings secret_files; /* NAME=VALUE, given as files */
	struct th_strings network_texts; /* none: the default one */
	struct th_strings aliases; /* further names there */
	struct th_strings host_texts; /* "NAME=ADDRESS" for the hosts file */
	const char *hostname;
	const char *user;
	const char *workdir;
	const char *entrypoint;
	struct th_strings capabilities; /* "+NET_ADMIN", "-CHOWN" */
	const char *stop_text; /* "signal=INT,grace=30s" */
	const char *restart_text; /* "on-failure,tries=5" */
	const char *probe_text; /* "http:80/health" */
	const char *log_text; /* "size=64M,files=10" */
	struct th_strings limit_texts; /* "memory=256M,cpu=1.5" */
	struct th_strings device_texts; /* "/dev/fuse" or a name */
	struct th_strings allow_texts; /* "syscalls,devices" */
	const char *share_text; /* "home,cwd,user" */
	const char *reaper_text; /* "auto", "yes", "no" */
	const char *users_text; /* "auto", "own", "host" */
	const char *const *device_folders; /* where names are described */
	/* Who calls, for what is shared. */
	struct {
		bool unprivileged; /* without root's rights */
		unsigned int uid, gid;
		const char *name, *home;
		const char *scratch; /* NULL without one */
		const char *pmix; /* $PMIX_SERVER_TMPDIR; NULL without */
	} caller;
	bool read_only;
	bool terminal;
	bool keep;
	enum th_fetch fetch;
	const char *base; /* folder that relative sources start from */
	/* Filled by th_settings_parse, once. */
	bool parsed;
	bool declared_ports; /* and those that the image declares */
	struct th_port *ports;
	size_t port_count;
	struct th_mount_setting *mounts;
	size_t mount_count;
	char network[TH_NETWORK_TEXT]; /* as the state has it */
	struct th_network_use networks[TH_NETWORKS_MAX];
	size_t network_count;
	struct th_strings made_networks; /* that have come by themselves */
	struct th_limit limit;
	int allow, share; /* sets of TH_ALLOW_..., TH_SHARE_... */
	enum th_reaper reaper;
	enum th_users users;
	struct th_policy policy;
	struct th_probe probe;
	struct th_log_settings log;
	int stop_signal; /* 0: the image's */
	int grace_ms;
};

/* ---- the vocabulary ---- */

enum th_setting_kind {
	TH_SETTING_TEXT, /* const char * */
	TH_SETTING_LIST, /* struct th_strings */
	TH_SETTING_FLAG /* bool */
};

/* How what is given goes together with what was set before. */
enum th_setting_join {
	TH_JOIN_ONE, /* it replaces it */
	TH_JOIN_PLACES, /* it replaces what has the same place inside */
	TH_JOIN_ALL, /* it comes on top of it */
	TH_JOIN_LIST, /* it replaces the whole list */
	TH_JOIN_APART /* values are put together by hand */
};

/* One setting: of the command line, of files, of JSON documents. */
struct th_setting {
	const char *name;
	enum th_setting_kind kind;
	enum th_setting_join joining;
	size_t offset; /* in struct th_settings */
};

/* All, in the order in which they are written; one without a name ends them.
 */
extern const struct th_setting th_settings_all[];
/* By its name, or NULL. */
const struct th_setting *th_setting_find(const char *name);
/* Where its value stands: a const char *, a struct th_strings or a bool. */
void *th_setting_place(
	const struct th_setting *setting, struct th_settings *settings);

/* The words of sets, as a list; and back from one such word, which is added to
 * the set. TH_USAGE where it is none. */
json_t *th_allow_to_json(int allow);
json_t *th_share_to_json(int share);
int th_allow_add(const char *word, int *allow, struct th_error *err);
int th_share_add(const char *word, int *share, struct th_error *err);

/* Where a host that uses security labels of SELinux says so. */
#define TH_SELINUX "/sys/fs/selinux/enforce"

/* Reads all texts, where that has not been done; each one that is wrong becomes
 * a problem. */
void th_settings_parse(
	struct th_settings *settings, struct th_problems *problems);
void th_settings_release(struct th_settings *settings);

#endif
