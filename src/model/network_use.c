#include "model/network_use.h"

#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/buffer.h"
#include "base/json.h"

bool th_network_is_with(const char *name)
{
	return strncmp(name, TH_NETWORK_WITH, strlen(TH_NETWORK_WITH)) == 0;
}

bool th_network_is_shared(const char *name)
{
	return strcmp(name, "host") != 0 && strcmp(name, "none") != 0 &&
		strcmp(name, TH_NETWORK_OWN) != 0 && !th_network_is_with(name);
}

static int read_address(struct th_network_use *use, const char *text,
	const char *whole, struct th_error *err)
{
	unsigned char raw[16];
	char *to = NULL;

	if (inet_pton(AF_INET, text, raw) == 1)
		to = use->address4;
	else if (inet_pton(AF_INET6, text, raw) == 1)
		to = use->address6;
	if (!to) {
		th_fail(err, TH_USAGE, "\"%.60s\" is not an address", text);
		return th_hint(err,
			"for example --network %s,address=10.20.0.9",
			use->network);
	}
	if (*to)
		return th_fail(err, TH_USAGE,
			"\"%.100s\" has two addresses of the same kind", whole);
	/* One way of writing it, so that it is found again. */
	inet_ntop(to == use->address4 ? AF_INET : AF_INET6, raw, to,
		TH_ADDRESS_TEXT);
	return 0;
}

int th_network_use_parse(
	const char *text, struct th_network_use *use, struct th_error *err)
{
	char copy[TH_NETWORK_TEXT], *rest = NULL, *part;
	int rc = 0;

	memset(use, 0, sizeof(*use));
	snprintf(copy, sizeof(copy), "%s", text);
	part = strtok_r(copy, ",", &rest);
	if (strlen(text) >= sizeof(copy) || !part || !th_name_valid(part)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a network", text);
		if (part &&
			(strncmp(part, "container:", 10) == 0 ||
				strncmp(part, "container=", 10) == 0 ||
				strncmp(part, "with=", 5) == 0))
			return th_hint(err, "it is: --network with:%.60s",
				part + strcspn(part, ":=") + 1);
		return th_hint(err,
			"use the name of a network, or host, none, own or "
			"with:CONTAINER");
	}
	snprintf(use->network, sizeof(use->network), "%s", part);
	while (rc == 0 && (part = strtok_r(NULL, ",", &rest))) {
		if (strncmp(part, "address=", 8) == 0) {
			rc = read_address(use, part + 8, text, err);
			continue;
		}
		th_fail(err, TH_USAGE, "\"%.60s\" is not an option of networks",
			part);
		rc = th_hint(err, "the option of networks is address=ADDRESS");
	}
	return rc;
}

char *th_network_use_format(const struct th_network_use *use)
{
	const char *four = use->address4, *six = use->address6;

	return th_format("%s%s%s%s%s", use->network, *four ? ",address=" : "",
		four, *six ? ",address=" : "", six);
}

json_t *th_network_use_to_json(const struct th_network_use *use)
{
	return json_pack("{s:s s:s s:s}", "network", use->network, "address4",
		use->address4, "address6", use->address6);
}

static int take(const json_t *doc, const char *key, char *to, size_t size,
	struct th_error *err)
{
	const char *text = NULL;

	if (th_json_string(doc, key, "a network", &text, err) < 0)
		return -1;
	if (text && strlen(text) >= size)
		return th_fail(err, TH_FAILED, "a network is not valid");
	snprintf(to, size, "%s", text ? text : "");
	return 0;
}

int th_network_use_from_json(
	const json_t *doc, struct th_network_use *use, struct th_error *err)
{
	memset(use, 0, sizeof(*use));
	if (take(doc, "network", use->network, sizeof(use->network), err) ||
		take(doc, "address4", use->address4, sizeof(use->address4),
			err) ||
		take(doc, "address6", use->address6, sizeof(use->address6),
			err))
		return -1;
	return th_name_valid(use->network)
		? 0
		: th_fail(err, TH_FAILED, "a network is not valid");
}
