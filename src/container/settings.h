/* The settings of a container: one vocabulary for options, files and show. */
#ifndef TH_CONTAINER_SETTINGS_H
#define TH_CONTAINER_SETTINGS_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "base/size.h"
#include "container/limit.h"
#include "network/publish.h"
#include "store/network_state.h"

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
enum th_share { TH_SHARE_HOME = 1, TH_SHARE_CWD = 2, TH_SHARE_USER = 4 };

/* Whose user IDs it has on the host. */
enum th_users { TH_USERS_AUTO, TH_USERS_OWN, TH_USERS_HOST };

enum th_reaper { TH_REAPER_AUTO, TH_REAPER_YES, TH_REAPER_NO };

enum th_mount_kind { TH_MOUNT_FOLDER, TH_MOUNT_MEMORY, TH_MOUNT_VOLUME };

/* The security label that the files of a mount get (SELinux): one for this
 * container alone, or one that all containers may use. */
enum th_mount_label { TH_LABEL_NONE, TH_LABEL_MINE, TH_LABEL_ALL };

struct th_mount_setting {
	enum th_mount_kind kind;
	char *target; /* inside, absolute; owned */
	char *source; /* outside, absolute; owned; NULL for memory, and for a
			 volume until it is made */
	char *volume; /* its name; owned; NULL where it is none */
	bool own; /* made up, and gone with the container */
	uint64_t size_bytes; /* of memory; 0: half of the host's */
	bool readonly;
	bool make; /* make the source folder where it is missing */
	bool map_owner; /* the source's owner is the program's user inside */
	enum th_mount_label label;
	const char *propagation; /* an option of mount(8), or NULL */
};

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
	} caller;
	bool read_only;
	bool terminal;
	bool keep;
	enum th_fetch fetch;
	const char *base; /* folder that relative sources start from */
	/* Filled by th_settings_check. */
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
	int stop_signal; /* 0: the image's */
	int grace_ms;
};

/* Where a host that uses security labels of SELinux says so. */
#define TH_SELINUX "/sys/fs/selinux/enforce"

/* Reads all texts; each one that is wrong becomes a problem. */
void th_settings_check(
	struct th_settings *settings, struct th_problems *problems);
void th_settings_release(struct th_settings *settings);

/* True for names of containers, volumes and networks: 1 to 63 letters,
 * digits, dots, dashes and underscores, beginning with a letter or digit. */
bool th_name_valid(const char *name);

/* A signal by number or name ("INT", "SIGINT", "2"); -1 where it is none. */
int th_signal_parse(const char *text);
/* Its name without SIG, or NULL. */
const char *th_signal_name(int number);

#endif
