#include "container/networks.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "network/network.h"

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
