/* What the service manager that has started the container hears of it
 * (sd_notify(3), "Notifications"): the keeper is the service's main process. */
#include <errno.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"

/* Nobody is told that it failed: the manager finds out by its own deadlines. */
static void tell(const struct keeper *keeper, const char *text)
{
	struct sockaddr_un to = {.sun_family = AF_UNIX};
	size_t len = strlen(keeper->notify);
	int fd;

	if (!len || len >= sizeof(to.sun_path))
		return;
	memcpy(to.sun_path, keeper->notify, len);
	/* "@" stands for the NUL of a name that is no file's (unix(7)). */
	if (to.sun_path[0] == '@')
		to.sun_path[0] = '\0';
	fd = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
	if (fd < 0)
		return;
	while (sendto(fd, text, strlen(text), MSG_NOSIGNAL | MSG_DONTWAIT,
		       (struct sockaddr *)(void *)&to,
		       (socklen_t)(offsetof(struct sockaddr_un, sun_path) +
			       len)) < 0 &&
		errno == EINTR)
		;
	th_close(&fd);
}

void keeper_notify_started(struct keeper *keeper)
{
	char text[120];
	bool probed = keeper->probing.probe.kind != TH_PROBE_NONE;

	/* Before the command ends, so that the service never is without a main
	 * process. */
	snprintf(text, sizeof(text), "MAINPID=%d\n%sSTATUS=%s", (int)getpid(),
		probed ? "" : "READY=1\n",
		probed ? "running, and not ready yet" : "running");
	tell(keeper, text);
}

void keeper_notify_health(struct keeper *keeper, bool good, const char *why)
{
	char text[300];

	if (good && keeper->probing.health.ready)
		tell(keeper, "READY=1\nWATCHDOG=1\nSTATUS=ready");
	else if (!good && keeper->probing.health.ailing) {
		snprintf(text, sizeof(text), "STATUS=ailing: %.200s", why);
		tell(keeper, text);
	}
}

void keeper_notify_stopping(struct keeper *keeper)
{
	tell(keeper, "STOPPING=1\nSTATUS=is being stopped");
}

void keeper_notify_waiting(struct keeper *keeper)
{
	tell(keeper, "STATUS=ended, and waits for its next start");
}
