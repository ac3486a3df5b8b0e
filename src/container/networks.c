#include "container/networks.h"

#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "network/network.h"

/* Those that cannot be had together with others. */
static bool stands_alone(const char *text)
{
	return !th_network_is_shared(text);
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

static int read_use(
	const char *text, struct th_network_use *use, struct th_error *err)
{
	char copy[TH_NETWORK_TEXT], *rest = NULL, *part;
	int rc = 0;

	memset(use, 0, sizeof(*use));
	snprintf(copy, sizeof(copy), "%s", text);
	part = strtok_r(copy, ",", &rest);
	if (strlen(text) >= sizeof(copy) || !part || !th_name_valid(part)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a network", text);
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

static int add_use(
	struct th_settings *settings, const char *text, struct th_error *err)
{
	struct th_network_use *use =
		&settings->networks[settings->network_count];
	size_t used = strlen(settings->network);

	if (settings->network_count == TH_NETWORKS_MAX)
		return th_fail(err, TH_USAGE,
			"a container can be on %d networks at most",
			TH_NETWORKS_MAX);
	if (read_use(text, use, err))
		return -1;
	for (size_t i = 0; i < settings->network_count; i++) {
		if (strcmp(settings->networks[i].network, use->network) == 0)
			return th_fail(err, TH_USAGE,
				"the network \"%s\" is named twice",
				use->network);
	}
	if (used + strlen(use->network) + 2 > sizeof(settings->network))
		return th_fail(err, TH_USAGE,
			"the names of the networks are too long in total");
	snprintf(settings->network + used, sizeof(settings->network) - used,
		"%s%s", used ? "," : "", use->network);
	settings->network_count++;
	return 0;
}

static void check_alone(
	const struct th_settings *settings, struct th_problems *problems)
{
	bool with = th_network_is_with(settings->network);
	bool host = strcmp(settings->network, "host") == 0;
	struct th_error err = {0};

	if (host && settings->port_texts.count) {
		th_fail(&err, TH_USAGE,
			"ports cannot be published with --network host");
		th_hint(&err,
			"leave out --port: the program's ports are already the "
			"host's");
		th_problems_add(problems, &err);
	}
	if (with && settings->port_texts.count) {
		th_fail(&err, TH_USAGE,
			"ports cannot be published with --network with:NAME");
		th_hint(&err, "give --port to \"%s\" when you create it",
			settings->network + strlen(TH_NETWORK_WITH));
		th_problems_add(problems, &err);
	}
	if (settings->aliases.count && !settings->network_count) {
		th_fail(&err, TH_USAGE,
			"an alias needs a network with other containers");
		th_hint(&err, "leave out --alias, or choose another --network");
		th_problems_add(problems, &err);
	}
}

void networks_parse(struct th_settings *settings, struct th_problems *problems)
{
	const struct th_strings *texts = &settings->network_texts;
	struct th_error err = {0};

	settings->network[0] = '\0';
	settings->network_count = 0;
	for (size_t i = 0; i < texts->count; i++) {
		const char *text = texts->items[i];

		if (stands_alone(text) && texts->count > 1) {
			th_fail(&err, TH_USAGE,
				"--network %.60s cannot be combined with "
				"another network",
				text);
			th_problems_add(problems, &err);
		} else if (stands_alone(text)) {
			snprintf(settings->network, sizeof(settings->network),
				"%s", text);
		} else if (add_use(settings, text, &err)) {
			th_problems_add(problems, &err);
		}
	}
	if (!texts->count)
		add_use(settings, TH_NETWORK_DEFAULT, &err);
	check_alone(settings, problems);
}

/* ---- what the state knows ---- */

static void check_with(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems)
{
	const char *name = settings->network + strlen(TH_NETWORK_WITH);
	struct th_object object;
	struct th_error err = {0};

	if (th_object_find(context, name, TH_KIND_CONTAINER, &object, &err)) {
		th_problems_add(problems, &err);
		return;
	}
	if (th_network_is_with(object.container.network) ||
		strcmp(object.container.network, "host") == 0) {
		th_fail(&err, TH_USAGE,
			"the container \"%s\" has no network of its own to "
			"share",
			object.container.name);
		th_hint(&err, "it uses --network %s", object.container.network);
		th_problems_add(problems, &err);
	} else {
		snprintf(settings->network, sizeof(settings->network),
			TH_NETWORK_WITH "%s", object.container.id);
	}
	th_object_release(&object);
}

static int check_address(struct th_store *store, const char *replaces,
	const struct th_network_row *row, const char *address,
	struct th_error *err)
{
	char holder[TH_NAME_MAX];
	int rc;

	if (!*address)
		return 0;
	if (th_network_check_address(row, address, err))
		return -1;
	rc = th_network_address_holder(store, row->name, address,
		replaces ? replaces : "", holder, err);
	if (rc <= 0)
		return rc;
	th_fail(err, TH_IN_USE, "the address %s belongs to container \"%s\"",
		address, holder);
	return th_hint(err,
		"choose another one, or leave it out: "
		"--network %s",
		row->name);
}

static int check_use(struct th_store *store, const char *replaces,
	const struct th_network_use *use, struct th_error *err)
{
	struct th_network_row *rows = NULL;
	size_t count = 0;
	int rc;

	if (!use->address4[0] && !use->address6[0])
		return 0;
	rc = th_network_list(store, use->network, &rows, &count, err);
	if (rc == 0 && !count) {
		th_fail(err, TH_NOT_FOUND,
			"the network \"%s\" does not exist, so the address "
			"cannot be reserved",
			use->network);
		rc = th_hint(err,
			"tidyhull new network %s --subnet 10.20.0.0/24",
			use->network);
	}
	if (rc == 0)
		rc = check_address(store, replaces, rows, use->address4, err);
	if (rc == 0)
		rc = check_address(store, replaces, rows, use->address6, err);
	free(rows);
	return rc;
}

static bool is_coming(
	const struct th_settings *settings, const struct th_network_use *use)
{
	const struct th_strings *names = settings->coming_networks;

	for (size_t i = 0; names && i < names->count; i++) {
		if (strcmp(names->items[i], use->network) == 0)
			return true;
	}
	return false;
}

void networks_check(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};

	if (th_network_is_with(settings->network) && !settings->with_later)
		check_with(context, settings, problems);
	for (size_t i = 0; i < settings->network_count; i++) {
		if (!is_coming(settings, &settings->networks[i]) &&
			check_use(context->store, settings->replaces,
				&settings->networks[i], &err))
			th_problems_add(problems, &err);
	}
}

/* ---- making ---- */

int networks_record(struct th_store *store, struct th_settings *settings,
	const char *container, struct th_error *err)
{
	th_strings_release(&settings->made_networks);
	for (size_t i = 0; i < settings->network_count; i++) {
		struct th_network_row row = {0};
		int made;

		snprintf(row.name, sizeof(row.name), "%s",
			settings->networks[i].network);
		made = th_network_make(store, &row, err);
		if (made < 0)
			return -1;
		if (made && th_strings_add(&settings->made_networks, row.name))
			return th_fail_memory(err);
		/* Somebody may have asked for the address since the check. */
		if (check_use(store, settings->replaces, &settings->networks[i],
			    err))
			return -1;
	}
	return th_network_use(store, container, settings->networks,
		settings->network_count, err);
}

const char *th_network_text(const struct th_context *context,
	const char *network, char text[TH_NETWORK_TEXT])
{
	struct th_container_row row;
	struct th_error ignored = {0}; /* then by its ID */

	snprintf(text, TH_NETWORK_TEXT, "%s", network);
	if (th_network_is_with(network) &&
		th_state_get(context->store->db,
			network + strlen(TH_NETWORK_WITH), &row, &ignored) == 1)
		snprintf(text, TH_NETWORK_TEXT, TH_NETWORK_WITH "%s", row.name);
	return text;
}
