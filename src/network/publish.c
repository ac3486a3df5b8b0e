#include "network/publish.h"

#include <arpa/inet.h>
#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"

#define BACKLOG 4096

/* A socket bound to the port; *sys is the errno where it fails. */
static int bind_one(const struct th_port *port, int family, int *sys)
{
	struct sockaddr_in6 six = {.sin6_family = AF_INET6,
		.sin6_port = htons((uint16_t)port->host_port)};
	struct sockaddr_in four = {.sin_family = AF_INET,
		.sin_port = htons((uint16_t)port->host_port)};
	const void *address = family == AF_INET ? (void *)&four : (void *)&six;
	socklen_t len = family == AF_INET ? sizeof(four) : sizeof(six);
	int fd, one = 1;

	if (port->address[0])
		inet_pton(family, port->address,
			family == AF_INET ? (void *)&four.sin_addr
					  : (void *)&six.sin6_addr);
	fd = socket(family,
		(port->udp ? SOCK_DGRAM : SOCK_STREAM) | SOCK_CLOEXEC |
			SOCK_NONBLOCK,
		0);
	if (fd < 0)
		goto fail;
	if (family == AF_INET6)
		setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &one, sizeof(one));
	/* Connections of an earlier owner that linger do not matter. */
	if (!port->udp)
		setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &one, sizeof(one));
	if (bind(fd, address, len) || (!port->udp && listen(fd, BACKLOG)))
		goto fail;
	return fd;
fail:
	*sys = errno;
	th_close(&fd);
	return -1;
}

static int bound_port(int fd)
{
	struct sockaddr_storage address;
	socklen_t len = sizeof(address);

	if (getsockname(fd, (struct sockaddr *)(void *)&address, &len))
		return 0;
	return ntohs(address.ss_family == AF_INET
			? ((struct sockaddr_in *)(void *)&address)->sin_port
			: ((struct sockaddr_in6 *)(void *)&address)->sin6_port);
}

static bool no_family(int sys)
{
	return sys == EAFNOSUPPORT || sys == EADDRNOTAVAIL;
}

/* Both families, or the one that the address belongs to. */
static int bind_families(struct th_port *port, int fds[2], int *sys)
{
	bool every = !port->address[0];
	bool six = strchr(port->address, ':') != NULL;

	fds[0] = fds[1] = -1;
	*sys = 0;
	if (every || !six) {
		fds[0] = bind_one(port, AF_INET, sys);
		if (fds[0] < 0)
			return -1;
		if (!port->host_port)
			port->host_port = bound_port(fds[0]);
	}
	if (every || six) {
		fds[1] = bind_one(port, AF_INET6, sys);
		if (fds[1] < 0 && !(every && no_family(*sys))) {
			th_close(&fds[0]);
			return -1;
		}
		if (fds[1] >= 0 && !port->host_port)
			port->host_port = bound_port(fds[1]);
	}
	return 0;
}

int th_port_bind(struct th_port *port, int fds[2], struct th_error *err)
{
	const char *protocol = port->udp ? "udp" : "tcp";
	bool choose = port->host_port == 0;
	int sys = 0;

	/* A port that is free for IPv4 may be taken for IPv6. */
	for (int tries = 0; tries < (choose ? 64 : 1); tries++) {
		if (choose)
			port->host_port = 0;
		if (bind_families(port, fds, &sys) == 0)
			return 0;
	}
	if (sys == EADDRINUSE) {
		th_fail(err, TH_IN_USE, "port %d/%s is in use", port->host_port,
			protocol);
		return th_trouble(err, TH_TROUBLE_PORT);
	}
	if (sys == EADDRNOTAVAIL)
		return th_fail(err, TH_NOT_POSSIBLE,
			"this host does not have the address %s",
			port->address);
	if (sys == EACCES)
		return th_fail(err, TH_NOT_POSSIBLE,
			"this user may not bind port %d/%s", port->host_port,
			protocol);
	return th_fail_sys(err, TH_FAILED, sys, "cannot bind port %d/%s",
		port->host_port, protocol);
}

/* The inode of a socket that listens on the port, from one of the kernel's
 * tables (proc(5), /proc/net/tcp). */
static unsigned long listening_inode(
	const char *table, const struct th_port *port)
{
	/* tcp: 0A is "listen"; udp: 07 is "unconnected". */
	unsigned int wanted = port->udp ? 0x07 : 0x0a;
	unsigned long found = 0;
	char line[512];
	FILE *file = fopen(table, "re");

	while (file && !found && fgets(line, sizeof(line), file)) {
		unsigned int local_port, state;
		unsigned long inode;

		if (sscanf(line,
			    " %*d: %*[0-9A-Fa-f]:%x %*[0-9A-Fa-f]:%*x %x "
			    "%*s %*s %*s %*d %*d %lu",
			    &local_port, &state, &inode) == 3 &&
			local_port == (unsigned int)port->host_port &&
			state == wanted)
			found = inode;
	}
	if (file)
		fclose(file);
	return found;
}

static bool process_has(int proc, const char *pid, const char *socket_name)
{
	char path[300], target[64];
	struct dirent *entry;
	bool found = false;
	DIR *dir;
	int fd;

	snprintf(path, sizeof(path), "%s/fd", pid);
	fd = openat(proc, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	dir = fd < 0 ? NULL : fdopendir(fd);
	if (!dir) {
		th_close(&fd);
		return false;
	}
	while (!found && (entry = readdir(dir))) {
		ssize_t len = readlinkat(
			fd, entry->d_name, target, sizeof(target) - 1);

		if (len > 0) {
			target[len] = '\0';
			found = strcmp(target, socket_name) == 0;
		}
	}
	closedir(dir);
	return found;
}

static void name_process(int pid, char name[64])
{
	char path[64];
	struct th_buf buf;
	struct th_error ignored = {0}; /* a hint only */

	snprintf(path, sizeof(path), "/proc/%d/comm", pid);
	th_buf_init(&buf, 63);
	if (th_file_read(AT_FDCWD, path, &buf, &ignored) == 1)
		snprintf(name, 64, "%.*s", (int)strcspn(buf.data, "\n"),
			buf.data);
	th_buf_release(&buf);
}

bool th_port_holder(const struct th_port *port, char name[64], int *pid)
{
	const char *tables[2] = {"/proc/net/tcp", "/proc/net/tcp6"};
	char socket_name[64];
	unsigned long inode = 0;
	struct dirent *entry;
	DIR *proc;

	name[0] = '\0';
	*pid = 0;
	if (port->udp) {
		tables[0] = "/proc/net/udp";
		tables[1] = "/proc/net/udp6";
	}
	for (int i = 0; i < 2 && !inode; i++)
		inode = listening_inode(tables[i], port);
	proc = inode ? opendir("/proc") : NULL;
	if (!proc)
		return inode != 0;
	snprintf(socket_name, sizeof(socket_name), "socket:[%lu]", inode);
	while (!*pid && (entry = readdir(proc))) {
		if (isdigit((unsigned char)entry->d_name[0]) &&
			process_has(dirfd(proc), entry->d_name, socket_name))
			*pid = atoi(entry->d_name);
	}
	closedir(proc);
	if (*pid)
		name_process(*pid, name);
	return true;
}

int th_port_next_free(const struct th_port *port)
{
	struct th_port next = *port;
	int fds[2], sys;

	for (int i = 1; i <= 100 && port->host_port + i <= 65535; i++) {
		next.host_port = port->host_port + i;
		if (bind_families(&next, fds, &sys) == 0) {
			th_close(&fds[0]);
			th_close(&fds[1]);
			return next.host_port;
		}
	}
	return 0;
}
