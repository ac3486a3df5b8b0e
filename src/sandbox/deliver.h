/* Signals to the first process of a container. */
#ifndef TH_SANDBOX_DELIVER_H
#define TH_SANDBOX_DELIVER_H

#include <stdbool.h>
#include <sys/types.h>

/* Sends it by the process's descriptor. The kernel does not let a signal
 * without a handler end the first process of a PID namespace
 * (pid_namespaces(7)), so where is_first says that it is one, what the signal
 * means by default is done by hand: nobody should wait for a program that
 * cannot hear. Returns the signal where SIGKILL was sent in its place, else 0.
 */
int th_deliver(pid_t pid, int pidfd, bool is_first, int number);

#endif
