/* new: a volume or a network by hand. */
#include <stdio.h>
#include <string.h>

#include "cli/output.h"
#include "cli/verbs.h"
#include "network/network.h"
#include "network/subnet.h"

static int check_name(const char *name, struct th_error *err)
{
	if (th_name_valid(name))
		return 0;
	th_fail(err, TH_USAGE, "\"%.100s\" cannot be a name", name);
	return th_hint(err,
		"a name has up to 63 letters, digits, dots, dashes and "
		"underscores");
}

static int new_volume(struct invocation *call, const char *name)
{
	struct th_error err = {0};
	int rc;

	if (check_name(name, &err))
		return say_error(&err);
	rc = th_volume_make(call->context.store, name, "", &err);
	if (rc == 0) {
		th_fail(&err, TH_IN_USE, "there is a volume \"%s\" already",
			name);
		th_hint(&err, "tidyhull show volume:%s", name);
	}
	if (rc <= 0)
		return say_error(&err);
	if (!call->quiet)
		printf("made the volume %s; mount it: --mount "
		       "/data=volume:%s\n",
			name, name);
	return EXIT_DONE;
}

/* Up to one block of each family. */
static int read_subnets(
	struct invocation *call, struct th_subnet *subnet, struct th_error *err)
{
	struct th_strings texts = {0};
	int rc =
		option_values(call, "subnet", &texts) ? th_fail_memory(err) : 0;

	for (size_t i = 0; rc == 0 && i < texts.count; i++) {
		bool six = strchr(texts.items[i], ':') != NULL;

		if (six ? subnet->has6 : subnet->prefix4 > 0) {
			th_fail(err, TH_USAGE,
				"a network has one %s subnet, and %.60s is the "
				"second",
				six ? "IPv6" : "IPv4", texts.items[i]);
			rc = -1;
		} else {
			rc = th_network_parse_subnet(
				texts.items[i], subnet, err);
		}
	}
	th_strings_release(&texts);
	return rc;
}

static int make_network(struct invocation *call, const char *name,
	struct th_network_row *row, struct th_error *err)
{
	struct th_store *store = call->context.store;
	struct th_subnet subnet = {0};
	int rc;

	snprintf(row->name, sizeof(row->name), "%s", name);
	row->by_hand = true;
	row->internal = option_given(call, "internal");
	if (check_name(name, err) || read_subnets(call, &subnet, err) ||
		th_network_check_subnet(store, name, &subnet, err))
		return -1;
	if (!th_network_is_shared(name)) {
		th_fail(err, TH_USAGE, "\"%s\" has a meaning of its own", name);
		return th_hint(err, "choose another name");
	}
	row->given4 = subnet.prefix4 > 0;
	row->given6 = subnet.has6;
	subnet_write(&subnet, row->subnet4, row->subnet6);
	rc = th_network_make(store, row, err);
	if (rc == 0) {
		th_fail(err, TH_IN_USE, "there is a network \"%s\" already",
			name);
		th_hint(err, "tidyhull show network:%s", name);
	}
	return rc == 1 ? 0 : -1;
}

static int new_network(struct invocation *call, const char *name)
{
	struct th_network_row row = {0};
	struct th_error err = {0};

	if (make_network(call, name, &row, &err))
		return say_error(&err);
	if (!call->quiet)
		printf("made the network %s%s; containers come to it by: "
		       "--network %s\n",
			name, row.internal ? ", which has no way out" : "",
			name);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	const char *kind = call->objects[0];
	bool volume = strcmp(kind, "volume") == 0;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (!volume && strcmp(kind, "network") != 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" cannot be made by hand",
			kind);
		th_hint(&err, "there are: new volume NAME, new network NAME");
		return say_error(&err);
	}
	if (volume &&
		(option_given(call, "subnet") ||
			option_given(call, "internal"))) {
		th_fail(&err, TH_USAGE,
			"--subnet and --internal are for networks");
		return say_error(&err);
	}
	if (option_given(call, "subnet") && call->object_count > 2) {
		th_fail(&err, TH_USAGE,
			"two networks cannot have the same subnet");
		th_hint(&err, "make one after the other");
		return say_error(&err);
	}
	for (int i = 1; i < call->object_count; i++) {
		int one = volume ? new_volume(call, call->objects[i])
				 : new_network(call, call->objects[i]);

		code = code ? code : one;
	}
	return code;
}

static const struct option_spec options[] = {
	{"subnet", "BLOCK", "of a network: 10.20.0.0/24; fd20::/64; or both"},
	{"internal", NULL, "of a network: without a way out"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Both come by themselves when they are first named, in --mount and",
	"--network; this is for having one before, or for one with a subnet of",
	"your choice.", NULL};

static const char *const examples[] = {"tidyhull new volume ledger",
	"tidyhull new network berths",
	"tidyhull new network pilots --internal --subnet 10.20.0.0/24", NULL};

const struct verb verb_new = {.name = "new",
	.group = "other objects",
	.summary = "make a volume or a network by hand",
	.usage = "volume|network NAME...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 2,
	.most = -1,
	.run = run};
