#include "container/new_network.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "model/settings.h"
#include "network/network.h"
#include "network/subnet.h"

static int read_subnets(const struct th_new_network *wish,
	struct th_subnet *subnet, struct th_error *err)
{
	for (size_t i = 0; i < wish->subnets.count; i++) {
		const char *text = wish->subnets.items[i];
		bool six = strchr(text, ':') != NULL;

		if (six ? subnet->has6 : subnet->prefix4 > 0)
			return th_fail(err, TH_USAGE,
				"a network has one %s subnet, but %.60s is a "
				"second one",
				six ? "IPv6" : "IPv4", text);
		if (th_network_parse_subnet(text, subnet, err))
			return -1;
	}
	return 0;
}

static int check(const struct th_store *store,
	const struct th_new_network *wish, struct th_error *err)
{
	if (wish->loopback && !store->unprivileged) {
		th_fail(err, TH_NOT_POSSIBLE,
			"networks of root's containers do not lead to the "
			"host's loopback");
		return th_hint(err,
			"--network host shares it; or let the server listen on "
			"another address too");
	}
	if (wish->loopback && wish->internal)
		return th_fail(err, TH_USAGE,
			"--internal and --host-loopback contradict each other");
	if (!th_name_valid(wish->name)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a valid name",
			wish->name);
		return th_hint(err,
			"use up to 63 letters, digits, dots, dashes and "
			"underscores");
	}
	if (!th_network_is_shared(wish->name)) {
		th_fail(err, TH_USAGE, "\"%s\" is a reserved word", wish->name);
		return th_hint(err, "choose another name");
	}
	return 0;
}

int th_network_new(struct th_store *store, const struct th_new_network *wish,
	struct th_network_row *row, struct th_error *err)
{
	struct th_network_row *rows = NULL;
	struct th_subnet subnet = {0};
	size_t count = 0;

	if (check(store, wish, err) || read_subnets(wish, &subnet, err) ||
		th_network_list(store, wish->name, &rows, &count, err))
		return -1;
	free(rows);
	/* Its own block would be in its way. */
	if (count)
		return 0;
	if (th_network_check_subnet(store, wish->name, &subnet, err))
		return -1;
	memset(row, 0, sizeof(*row));
	snprintf(row->name, sizeof(row->name), "%s", wish->name);
	row->by_hand = true;
	row->internal = wish->internal;
	row->loopback = wish->loopback;
	row->given4 = subnet.prefix4 > 0;
	row->given6 = subnet.has6;
	subnet_write(&subnet, row->subnet4, row->subnet6);
	return th_network_make(store, row, err);
}
