/* The name servers of one run: the host's, and a way to those that the host
 * has on its loopback. */
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"
#include "network/inner.h"
#include "network/resolver.h"

#define PORT 53

static enum th_resolver kind_of(const struct keeper *keeper)
{
	const char *network = keeper->plan.network;
	bool with = th_network_is_with(network);

	if (strcmp(network, "host") == 0)
		return TH_RESOLVER_SAME;
	if (!with &&
		!(th_network_is_shared(network) &&
			keeper->plugs.joined.way_out))
		return TH_RESOLVER_PLAIN;
	return keeper->store->unprivileged ? TH_RESOLVER_UPLINK
					   : TH_RESOLVER_RELAY;
}

/* A socket inside at the address that the file names; -1 where the container
 * has something else there. */
static int bind_inside(struct inner *inner, int type, const char *address)
{
	struct sockaddr_in at = {
		.sin_family = AF_INET, .sin_port = htons(PORT)};
	int fd = inner_socket(inner, AF_INET, type), one = 1;

	/* The container may not have its loopback up yet. */
	setsockopt(fd, IPPROTO_IP, IP_FREEBIND, &one, sizeof(one));
	inet_pton(AF_INET, address, &at.sin_addr);
	if (fd >= 0 &&
		bind(fd, (const struct sockaddr *)(const void *)&at,
			sizeof(at)) == 0 &&
		(type == SOCK_DGRAM || listen(fd, 64) == 0))
		return fd;
	th_close(&fd);
	return -1;
}

/* The other way round than a published port: inside is who asks. */
static int serve(
	struct keeper *keeper, const char *address, struct th_error *err)
{
	struct inner *inner = inner_new(keeper->plugs.netns);
	const struct th_port ports[2] = {
		{.port = PORT}, {.port = PORT, .udp = true}};
	int fds[2][2], rc;

	if (!inner)
		return th_fail_memory(err);
	for (int udp = 0; udp < 2; udp++) {
		fds[udp][0] = bind_inside(
			inner, udp ? SOCK_DGRAM : SOCK_STREAM, address);
		fds[udp][1] = -1;
	}
	inner_free(inner);
	rc = th_relaying_start(&keeper->plugs.names_relaying,
		&(struct th_relaying_way){
			.netns = -1, .address4 = address, .address6 = ""},
		ports, (const int(*)[2])fds, 2, err);
	for (int udp = 0; udp < 2; udp++)
		th_close(&fds[udp][0]);
	return rc;
}

/* Who serves names itself has the port for itself. */
static bool has_names(const struct keeper *keeper)
{
	for (size_t i = 0; i < keeper->plan.port_count; i++) {
		if (keeper->plan.ports[i].port == PORT)
			return true;
	}
	return false;
}

int keeper_set_resolver(struct keeper *keeper, struct th_error *err)
{
	char relay[TH_ADDRESS_TEXT];
	struct th_buf host, text;
	int rc = -1;

	th_buf_init(&text, 1 << 20);
	if (th_resolver_read_host(&host, err) == 0 &&
		th_resolver_write(
			host.data, kind_of(keeper), &text, relay, err) == 0)
		/* It is mounted inside already. */
		rc = th_file_overwrite(keeper->folder_fd, "resolv.conf",
			text.data, text.len, "the container's resolv.conf",
			err);
	th_buf_release(&host);
	th_buf_release(&text);
	if (rc || !relay[0] || has_names(keeper) ||
		th_network_is_with(keeper->plan.network))
		return rc;
	return serve(keeper, relay, err);
}

void keeper_end_resolver(struct keeper *keeper)
{
	th_relaying_end(&keeper->plugs.names_relaying);
}
