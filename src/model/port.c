#include "model/port.h"

#include <arpa/inet.h>
#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/turned.h"
#include "base/json.h"

#define RANGE_MAX 1024

struct range {
	int first, last;
};

/* "80" or "8000-8009". */
static bool parse_range(const char *text, struct range *range)
{
	char *end;
	long first, last;

	if (!isdigit((unsigned char)*text))
		return false;
	first = last = strtol(text, &end, 10);
	if (*end == '-' && isdigit((unsigned char)end[1]))
		last = strtol(end + 1, &end, 10);
	if (*end || first < 1 || last > 65535 || last < first ||
		last - first >= RANGE_MAX)
		return false;
	range->first = (int)first;
	range->last = (int)last;
	return true;
}

/* The side of the host: [ADDRESS:]PORTS; IPv6 addresses in brackets. */
static bool parse_host(char *text, struct th_port *port, struct range *range)
{
	unsigned char raw[16];
	char *colon = strrchr(text, ':');

	if (text[0] == '[') {
		char *end = strchr(text, ']');

		if (!end || end[1] != ':')
			return false;
		*end = '\0';
		if (inet_pton(AF_INET6, text + 1, raw) != 1)
			return false;
		snprintf(port->address, sizeof(port->address), "%.47s",
			text + 1);
		return parse_range(end + 2, range);
	}
	if (!colon)
		return parse_range(text, range);
	*colon = '\0';
	if (inet_pton(AF_INET, text, raw) != 1)
		return false;
	snprintf(port->address, sizeof(port->address), "%.47s", text);
	return parse_range(colon + 1, range);
}

/* A whole setting; host stays 0 where nothing is said of the outside. */
static bool read_setting(const char *text, struct th_port *port,
	struct range *inside, struct range *host)
{
	char copy[128], *slash, *host_part;

	if (strlen(text) >= sizeof(copy))
		return false;
	snprintf(copy, sizeof(copy), "%s", text);
	if (strlen(copy) > 8 &&
		strcmp(copy + strlen(copy) - 8, ",handoff") == 0) {
		copy[strlen(copy) - 8] = '\0';
		port->handoff = true;
	}
	slash = strrchr(copy, '/');
	if (slash) {
		*slash = '\0';
		port->udp = strcmp(slash + 1, "udp") == 0;
		if (!port->udp && strcmp(slash + 1, "tcp") != 0)
			return false;
	}
	host_part = strchr(copy, '=');
	if (host_part)
		*host_part++ = '\0';
	return parse_range(copy, inside) &&
		(!host_part || parse_host(host_part, port, host));
}

/* A number that no port has stands in it. */
static bool beyond_ports(const char *text)
{
	while (*text) {
		size_t len = strcspn(text, "=-:/");
		long number = strtol(text, NULL, 10);

		if (len && strspn(text, "0123456789") == len &&
			(number == 0 || number > 65535))
			return true;
		text += len + (text[len] != '\0');
	}
	return false;
}

static bool is_setting(const char *text)
{
	struct range inside, host = {0, 0};
	struct th_port port = {0};

	return read_setting(text, &port, &inside, &host);
}

/* "80=localhost:8080", "http=8080", "80 8080", "80/udp=8080": one meaning, and
 * another spelling. */
static bool find_meant(const char *text, char meant[TH_TURNED_TEXT])
{
	static const char *const names[][2] = {{"http=", "80="},
		{"https=", "443="}, {"localhost:", "127.0.0.1:"},
		{"=localhost:", "=127.0.0.1:"}, {" ", "="}, {"->", "="},
		{"/tcp=", "="}, {"/tcp:", "="}};
	size_t len = strcspn(text, "="), used = 0;

	if (strlen(text) > 100)
		return false;
	/* "80 = 8080", "80=0.0.0.0" */
	for (const char *at = text; *at; at++) {
		if (*at != ' ')
			meant[used++] = *at;
	}
	meant[used] = '\0';
	if (used < strlen(text) && strchr(text, '=') && is_setting(meant))
		return true;
	snprintf(meant, TH_TURNED_TEXT, "%s:%.*s", text, (int)len, text);
	if (text[len] == '=' && strchr(text, '.') && is_setting(meant))
		return true;
	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		const char *at = strstr(text, names[i][0]);

		if (!at || (names[i][0][0] >= 'a' && at != text))
			continue;
		snprintf(meant, TH_TURNED_TEXT, "%.*s%s%s", (int)(at - text),
			text, names[i][1], at + strlen(names[i][0]));
		if (is_setting(meant))
			return true;
		/* And the other way round. */
		len = strcspn(meant, "=");
		if (text[0] == 'l' && meant[len]) {
			char copy[TH_TURNED_TEXT];

			snprintf(copy, sizeof(copy), "%s=%.*s", meant + len + 1,
				(int)len, meant);
			memcpy(meant, copy, sizeof(copy));
			return is_setting(meant);
		}
	}
	len = strcspn(text, "/");
	if (strncmp(text + len, "/udp=", 5) == 0) {
		snprintf(meant, TH_TURNED_TEXT, "%.*s=%s/udp", (int)len, text,
			text + len + 5);
		return is_setting(meant);
	}
	return false;
}

static int wrong(const char *text, struct th_error *err)
{
	char turned[TH_TURNED_TEXT];

	if (find_meant(text, turned)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a port setting",
			text);
		return th_hint(err, "it is: --port %s", turned);
	}
	if (strchr(text, ',') &&
		strspn(text, "0123456789=:.,") == strlen(text)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a port setting",
			text);
		return th_hint(err,
			"each port has an option of its own: --port 80=8080 "
			"--port 443=8443");
	}
	if (strchr(text, '/') && strcmp(strrchr(text, '/'), "/tcp") != 0 &&
		strcmp(strrchr(text, '/'), "/udp") != 0) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a port setting",
			text);
		return th_hint(err,
			"protocols are tcp and udp, at the end: --port "
			"53=5353/udp");
	}
	if (beyond_ports(text)) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" names a port that there is not", text);
		return th_hint(err, "ports are numbers from 1 to 65535");
	}
	if (th_turned_port(text, turned)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a port setting",
			text);
		return th_hint(err,
			"what is inside stands on the left; if that is %.*s: "
			"--port %s",
			(int)strcspn(turned, "/="), turned, turned);
	}
	th_fail(err, TH_USAGE, "\"%.100s\" is not a port setting", text);
	return th_hint(err,
		"write what the container sees on the left: 80=8080, "
		"80=127.0.0.1:8080, 53=5353/udp, or just 80 for a free port");
}

static int add(const struct th_port *port, struct th_port **ports,
	size_t *count, struct th_error *err)
{
	struct th_port *list = realloc(*ports, (*count + 1) * sizeof(*list));

	if (!list)
		return th_fail_memory(err);
	*ports = list;
	list[(*count)++] = *port;
	return 0;
}

int th_port_parse(const char *text, struct th_port **ports, size_t *count,
	struct th_error *err)
{
	struct range inside, host = {0, 0};
	struct th_port port = {0};
	int width;

	if (!read_setting(text, &port, &inside, &host))
		return wrong(text, err);
	width = inside.last - inside.first;
	if (host.first && host.last - host.first != width) {
		th_fail(err, TH_USAGE,
			"the two ranges in \"%.100s\" have different lengths",
			text);
		return th_hint(err, "for example 8000-8009=9000-9009");
	}
	for (int i = 0; i <= width; i++) {
		port.port = inside.first + i;
		port.host_port = host.first ? host.first + i : 0;
		if (add(&port, ports, count, err))
			return -1;
	}
	return 0;
}

/* How many of them one range says. */
static size_t range_length(const struct th_port *ports, size_t count)
{
	size_t len = 1;

	while (len < count && len < RANGE_MAX &&
		ports[len].port == ports[len - 1].port + 1 &&
		ports[len].host_port ==
			(ports[0].host_port ? ports[len - 1].host_port + 1
					    : 0) &&
		ports[len].udp == ports[0].udp &&
		ports[len].handoff == ports[0].handoff &&
		strcmp(ports[len].address, ports[0].address) == 0)
		len++;
	return len;
}

/* "80" or "8000-8009". */
static void format_range(int first, size_t len, char text[16])
{
	if (len == 1)
		snprintf(text, 16, "%d", first);
	else
		snprintf(text, 16, "%d-%d", first, first + (int)len - 1);
}

static char *format(const struct th_port *port, size_t len)
{
	const char *address = port->address;
	bool six = strchr(address, ':') != NULL;
	char inside[16], host[16];

	format_range(port->port, len, inside);
	format_range(port->host_port, len, host);
	if (!port->host_port)
		return th_format("%s%s%s", inside, port->udp ? "/udp" : "",
			port->handoff ? ",handoff" : "");
	return th_format("%s=%s%s%s%s%s%s%s", inside, six ? "[" : "", address,
		six ? "]" : "", *address ? ":" : "", host,
		port->udp ? "/udp" : "", port->handoff ? ",handoff" : "");
}

int th_ports_format(
	const struct th_port *ports, size_t count, struct th_strings *texts)
{
	for (size_t i = 0, len; i < count; i += len) {
		len = range_length(ports + i, count - i);
		if (th_strings_take(texts, format(&ports[i], len)))
			return -1;
	}
	return 0;
}

/* ---- JSON ---- */

json_t *th_ports_to_json(const struct th_port *ports, size_t count)
{
	json_t *list = json_array();

	for (size_t i = 0; i < count; i++) {
		const struct th_port *port = &ports[i];

		json_array_append_new(list,
			json_pack("{s:i s:i s:s s:b s:b}", "port", port->port,
				"host-port", port->host_port, "address",
				port->address, "udp", port->udp, "handoff",
				port->handoff));
	}
	return list;
}

static int read_one(
	const json_t *doc, struct th_port *port, struct th_error *err)
{
	static const char what[] = "a port";
	const char *address = NULL;
	int64_t inside = 0, host = 0;

	memset(port, 0, sizeof(*port));
	if (th_json_int(doc, "port", what, &inside, err) < 0 ||
		th_json_int(doc, "host-port", what, &host, err) < 0 ||
		th_json_string(doc, "address", what, &address, err) < 0 ||
		th_json_bool(doc, "udp", what, &port->udp, err) < 0 ||
		th_json_bool(doc, "handoff", what, &port->handoff, err) < 0)
		return -1;
	if (inside < 1 || inside > 65535 || host < 0 || host > 65535 ||
		strlen(address ? address : "") >= sizeof(port->address))
		return th_fail(err, TH_FAILED, "a port has a wrong number");
	port->port = (int)inside;
	port->host_port = (int)host;
	snprintf(port->address, sizeof(port->address), "%s",
		address ? address : "");
	return 0;
}

int th_ports_from_json(const json_t *list, struct th_port **ports,
	size_t *count, struct th_error *err)
{
	const json_t *one;
	struct th_port port;
	size_t i;

	json_array_foreach(list, i, one)
	{
		if (read_one(one, &port, err) || add(&port, ports, count, err))
			return -1;
	}
	return 0;
}
