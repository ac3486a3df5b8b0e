/* Handing a filter's listener over to who is to hear of system calls (OCI
 * Runtime Specification, config-linux.md, "The Container Process State"). For
 * the sandbox module only. */
#ifndef TH_SANDBOX_LISTENER_H
#define TH_SANDBOX_LISTENER_H

#include "oci/bundle.h"

/* Takes the descriptor number out of the process, as soon as it is there, and
 * sends it to the socket that the bundle names. */
int th_listener_hand_over(const struct th_bundle *bundle, const char *id,
	const char *bundle_path, pid_t pid, int pidfd, int number,
	struct th_error *err);

/* Connects to a local socket and sends text with one descriptor. */
int th_send_descriptor(
	const char *path, const char *text, int fd, struct th_error *err);

#endif
