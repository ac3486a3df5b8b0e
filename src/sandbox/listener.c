#include "sandbox/listener.h"

#include <errno.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/un.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "sandbox/run_hooks.h"
#include "sandbox/message.h"

#define TRIES 2000
#define STEP_NS 1000000

int th_send_descriptor(
	const char *path, const char *text, int fd, struct th_error *err)
{
	struct sockaddr_un address = {.sun_family = AF_UNIX};
	int s, rc = 0;

	if (strlen(path) >= sizeof(address.sun_path))
		return th_fail(err, TH_FAILED,
			"the socket's path is too long: %.200s", path);
	memcpy(address.sun_path, path, strlen(path) + 1);
	s = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
	if (s < 0 || connect(s, (struct sockaddr *)&address, sizeof(address)) ||
		!setup_send(s, text, strlen(text), fd))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot send a descriptor to %.200s", path);
	th_close(&s);
	return rc;
}

/* The container process state, with the state of the container in it. */
static char *describe(const struct th_bundle *bundle, const char *id,
	const char *bundle_path, pid_t pid)
{
	const char *metadata = bundle->seccomp.listener_metadata;
	char *state = th_hooks_state(bundle, id, "creating", pid, bundle_path);
	json_t *inner = state ? json_loads(state, 0, NULL) : NULL;
	json_t *doc = json_pack("{s:s s:[s] s:i s:s* s:o}", "ociVersion",
		TH_OCI_RUNTIME_VERSION, "fds", "seccompFd", "pid", (int)pid,
		"metadata", metadata, "state", inner);
	char *text = th_json_text(doc, JSON_COMPACT);

	json_decref(doc);
	free(state);
	return text;
}

int th_listener_hand_over(const struct th_bundle *bundle, const char *id,
	const char *bundle_path, pid_t pid, int pidfd, int number,
	struct th_error *err)
{
	const struct timespec step = {.tv_nsec = STEP_NS};
	char *text;
	int fd = -1, rc;

	/* The process loads its filter just now. */
	for (int i = 0; fd < 0 && i < TRIES; i++) {
		fd = (int)syscall(SYS_pidfd_getfd, pidfd, number, 0);
		if (fd < 0)
			nanosleep(&step, NULL);
	}
	if (fd < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot take over the listener of the system-call "
			"filter");
	text = describe(bundle, id, bundle_path, pid);
	rc = text ? th_send_descriptor(
			    bundle->seccomp.listener_path, text, fd, err)
		  : th_fail_memory(err);
	free(text);
	th_close(&fd);
	return rc;
}
