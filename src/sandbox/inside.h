/* The steps that the new process takes before its program: they run inside
 * and report by th_error. For the sandbox module only. */
#ifndef TH_SANDBOX_INSIDE_H
#define TH_SANDBOX_INSIDE_H

#include "base/buffer.h"
#include "base/error.h"
#include "oci/bundle.h"
#include "sandbox/cgroup.h"

/* A filter that is compiled already. */
struct th_inside_filter {
	const struct th_buf *program; /* NULL: none */
	unsigned int flags;
	bool listener;
	/* With a listener: a byte comes here once its descriptor is taken. */
	int channel;
};

/* mounts.c: all mounts of the bundle below rootfd; fds are the sources, which
 * are closed on the way. group is the container's own, or NULL. */
int th_inside_mounts(const struct th_bundle *bundle,
	const struct th_cgroup *group, int *fds, int rootfd,
	struct th_error *err);
/* devices.c: /dev's nodes and links. */
int th_inside_devices(
	const struct th_bundle *bundle, int rootfd, struct th_error *err);
/* protect.c: masked and read-only paths, and the root itself. */
int th_inside_protect(
	const struct th_bundle *bundle, int rootfd, struct th_error *err);
/* terminal.c: a new terminal of the container's own devpts; the slave becomes
 * the standard streams and, where asked for, /dev/console. */
int th_inside_terminal(int *master, bool bind_console, struct th_error *err);
/* Makes it the terminal of the calling process, which leads a session. */
int th_inside_take_terminal(struct th_error *err);
/* labels.c: a proc of the process's own PID namespace, attached nowhere. */
int th_inside_proc(struct th_error *err);
int th_inside_sysctls(const struct th_bundle *bundle, struct th_error *err);
int th_inside_labels(const struct th_process *process, struct th_error *err);
/* labels.c: by the parent, before anything is made. */
int th_labels_check(const struct th_bundle *bundle, struct th_error *err);
/* identity.c: how likely the kernel ends it when memory runs out; while /proc
 * is still the host's, which shows this process wherever it has a number. */
int th_inside_score(const struct th_process *process, struct th_error *err);
/* identity.c: groups, user, capabilities, limits, filter and the working
 * folder. filter may be NULL. */
int th_inside_identity(const struct th_process *process,
	const struct th_inside_filter *filter, struct th_error *err);
/* reaper.c: the calling process becomes the reaper, which ends with the
 * program; only the program's process returns, once the reaper has given up all
 * that it does not need. status: where the program's wait status is written, or
 * -1. */
int th_inside_reaper(const struct th_process *process, pid_t program_pid,
	int status, struct th_error *err);
/* program.c: do not return where they succeed. The second executes a program
 * that is open already. */
int th_inside_exec(const struct th_process *process, struct th_error *err);
int th_inside_exec_given(
	const struct th_process *process, int program, struct th_error *err);

#endif
