#include "network/resolver.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>

#include "base/file.h"
#include "network/pilot.h"

#define FILE_MAX (1u << 20)
#define HOST_FILE "/etc/resolv.conf"
/* Where systemd-resolved keeps what its stub asks (systemd-resolved(8)). */
#define BEHIND_STUB "/run/systemd/resolve/resolv.conf"

/* The server of a line "nameserver ADDRESS", or NULL. */
static const char *server_of(
	const char *line, size_t len, char address[TH_ADDRESS_TEXT])
{
	size_t at = 10, end;

	if (len <= at || strncmp(line, "nameserver", at) != 0 ||
		(line[at] != ' ' && line[at] != '\t'))
		return NULL;
	while (at < len && (line[at] == ' ' || line[at] == '\t'))
		at++;
	end = at;
	while (end < len && line[end] != ' ' && line[end] != '\t' &&
		line[end] != '\r')
		end++;
	if (end == at || end - at >= TH_ADDRESS_TEXT)
		return NULL;
	snprintf(address, TH_ADDRESS_TEXT, "%.*s", (int)(end - at), line + at);
	return address;
}

/* On the loopback, or on a link by its device's name: of the host alone. */
static bool is_local(const char *address)
{
	struct in6_addr six;
	struct in_addr four;

	if (strchr(address, '%'))
		return true;
	if (inet_pton(AF_INET, address, &four) == 1)
		return ntohl(four.s_addr) >> 24 == 127 || four.s_addr == 0;
	return inet_pton(AF_INET6, address, &six) == 1 &&
		(IN6_IS_ADDR_LOOPBACK(&six) || IN6_IS_ADDR_LINKLOCAL(&six));
}

/* How many servers the text has, and how many of them a container can reach;
 * the first that it cannot. */
static void count_servers(const char *text, size_t *all, size_t *reachable,
	char local[TH_ADDRESS_TEXT])
{
	char address[TH_ADDRESS_TEXT];

	*all = *reachable = 0;
	local[0] = '\0';
	for (const char *at = text; *at;) {
		size_t len = strcspn(at, "\n");

		if (server_of(at, len, address)) {
			(*all)++;
			if (!is_local(address))
				(*reachable)++;
			else if (!local[0] && !strchr(address, '%'))
				snprintf(local, TH_ADDRESS_TEXT, "%s", address);
		}
		at += len + (at[len] == '\n');
	}
}

static void copy_lines(const char *host, bool local_too, struct th_buf *text)
{
	char address[TH_ADDRESS_TEXT];

	for (const char *at = host; *at;) {
		size_t len = strcspn(at, "\n");
		bool server = server_of(at, len, address) != NULL;

		if (len > 0 && *at != '#' && *at != ';' &&
			(local_too || !server || !is_local(address))) {
			th_buf_add(text, at, len);
			th_buf_adds(text, "\n");
		}
		at += len + (at[len] == '\n');
	}
}

int th_resolver_write(const char *host, enum th_resolver kind,
	struct th_buf *text, char relay[TH_ADDRESS_TEXT], struct th_error *err)
{
	char local[TH_ADDRESS_TEXT];
	size_t all, reachable;
	struct in_addr four;

	relay[0] = '\0';
	count_servers(host, &all, &reachable, local);
	copy_lines(host, kind == TH_RESOLVER_SAME, text);
	if (kind == TH_RESOLVER_UPLINK && all && !reachable)
		th_buf_adds(text, "nameserver " TH_UPLINK_NAMES "\n");
	if (kind == TH_RESOLVER_RELAY && !reachable && local[0]) {
		/* Inside it has an address of the loopback either way. */
		if (inet_pton(AF_INET, local, &four) != 1 || !four.s_addr)
			snprintf(local, sizeof(local), "127.0.0.1");
		snprintf(relay, TH_ADDRESS_TEXT, "%s", local);
		th_buf_addf(text, "nameserver %s\n", local);
	}
	return text->failed ? th_fail_memory(err) : 0;
}

int th_resolver_read_host(struct th_buf *text, struct th_error *err)
{
	char local[TH_ADDRESS_TEXT];
	struct th_error ignored = {0}; /* then as it is */
	size_t all, reachable;
	struct th_buf behind;
	int rc;

	th_buf_init(text, FILE_MAX);
	rc = th_file_read(AT_FDCWD, HOST_FILE, text, err);
	if (rc < 0)
		return -1;
	count_servers(text->data, &all, &reachable, local);
	if (!all || reachable)
		return 0;
	th_buf_init(&behind, FILE_MAX);
	if (th_file_read(AT_FDCWD, BEHIND_STUB, &behind, &ignored) == 1) {
		count_servers(behind.data, &all, &reachable, local);
		if (reachable) {
			text->len = 0;
			th_buf_add(text, behind.data, behind.len);
		}
	}
	th_buf_release(&behind);
	return 0;
}
