/* New processes in namespaces. For the sandbox module only. */
#ifndef TH_SANDBOX_CLONE_H
#define TH_SANDBOX_CLONE_H

#include <sys/types.h>

/* fork with namespaces (CLONE_NEW...), straight into the control group (-1:
 * the caller's). further: CLONE_PARENT or 0. */
pid_t clone_process(int namespaces, int cgroup, int further, int *pidfd);

/* fork; the child has this process ID in its PID namespace, which belongs to
 * the caller's user namespace (Linux 5.5). 0: any. */
pid_t clone_numbered(pid_t number);

#endif
