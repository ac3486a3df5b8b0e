/* What makes a process a container, as an OCI config.json asks for it.
 *
 *   th_sandbox_create   the process exists, in its namespaces, and sets up
 *                       its mounts while the caller joins up its network
 *   th_sandbox_ready    all is set up; the program is not started
 *   th_sandbox_start    the program runs
 *
 * After a failure of any of them the process is gone and the sandbox is
 * released. The caller must be a process of one thread: it is the parent whose
 * death kills the container. */
#ifndef TH_SANDBOX_SANDBOX_H
#define TH_SANDBOX_SANDBOX_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/error.h"
#include "oci/bundle.h"
#include "sandbox/cgroup.h"
#include "sandbox/overlay.h"

#define TH_HANDED_MAX 64

struct th_sandbox_options {
	const struct th_bundle *bundle;
	const char *id;
	const char *bundle_path; /* folder that root.path is relative to */
	int root_mount; /* a detached mount for the root, or -1 to
			   take root.path itself */
	/* Or the overlay that the process makes of folders below the detached
	 * mount overlay_base, in its user namespace; NULL: none. */
	const struct th_overlay *overlay;
	int overlay_base;
	/* The sources of the bundle's mounts, opened by th_mounts_open already;
	 * NULL: not yet. Closed here. */
	int *mount_fds;
	struct th_cgroup *cgroup; /* where the process goes; NULL: nowhere */
	int stdio[3]; /* used where there is no terminal */
	/* The filter, compiled; NULL: none, or compiled here. */
	const struct th_buf *filter;
	bool reaper; /* a first process of our own above the program, */
	pid_t program_pid; /* which has this ID inside; 0: any */
	/* A detached mount that is attached at a path inside, beside those of
	 * the bundle; target NULL: there is none. */
	int memory_mount;
	const char *memory_target;
	/* Listening sockets that the program gets as descriptors 3 and up, and
	 * is told of by LISTEN_FDS and LISTEN_PID (sd_listen_fds(3)). */
	const int *handed;
	size_t handed_count; /* at most TH_HANDED_MAX */
	/* Lives on without its parent, and waits for the start at this
	 * listening socket instead of th_sandbox_start; -1: neither. */
	int listener;
};

struct th_sandbox {
	pid_t pid;
	int pidfd;
	int channel; /* to the process until its program runs */
	int console; /* the terminal's master, or -1; the caller's */
	int status; /* of a reaper: brings the program's wait status, or -1 */
	const struct th_sandbox_options *options; /* until it is ready */
};

/* options must stay until th_sandbox_start has returned. */
int th_sandbox_create(const struct th_sandbox_options *options,
	struct th_sandbox *sandbox, struct th_error *err);
int th_sandbox_ready(struct th_sandbox *sandbox, struct th_error *err);
/* TH_NO_PROGRAM and TH_NO_EXEC where it is the program that fails. Runs the
 * poststart hooks. */
int th_sandbox_start(struct th_sandbox *sandbox, struct th_error *err);
/* Where it waits at a listener: it goes on to wait when the caller has gone,
 * with which it ends before that. */
int th_sandbox_leave_waiting(struct th_sandbox *sandbox, struct th_error *err);
/* The same for a process that waits at a listener: connection is a socket
 * connected to it. The first process's pid is needed for a filter's
 * listener. */
int th_sandbox_start_waiting(const struct th_bundle *bundle, const char *id,
	const char *bundle_path, pid_t pid, int connection,
	struct th_error *err);
/* Kills a process that does not run its program yet, and releases. */
void th_sandbox_abandon(struct th_sandbox *sandbox);

/* Starts another process in the namespaces of a running container, as process
 * says. On success it runs, is a child of the caller, and sandbox holds its
 * pid, pidfd and console. */
struct th_join_options {
	int target_pidfd; /* the container's first process */
	int namespaces; /* CLONE_NEW... that it has of its own */
	struct th_cgroup *cgroup;
	const struct th_process *process;
	const struct th_buf *filter; /* NULL: none */
	unsigned int filter_flags;
	int stdio[3];
	int program; /* a program that the container lacks, or -1 */
};

/* A session on its way. Nothing of it waits: the caller watches th_join_fd,
 * which changes from step to step, and the time. */
struct th_joining {
	pid_t helper;
	int helper_fd, own;
	struct th_sandbox made;
	int64_t until_ms; /* of the clock that never jumps */
};
/* Starts it; options are not needed any more when it returns. */
int th_join_begin(const struct th_join_options *options,
	struct th_joining *joining, struct th_error *err);
/* Readable when th_join_step has something to do. */
int th_join_fd(const struct th_joining *joining);
/* To be called then, and at until_ms: 1 where the program runs, 0 where it is
 * not there yet, -1 where nothing has become of it. */
int th_join_step(struct th_joining *joining, struct th_sandbox *sandbox,
	struct th_error *err);
/* Ends it where it is. */
void th_join_abandon(struct th_joining *joining);

#endif
