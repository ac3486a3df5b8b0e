#include "cli/list_tree.h"

#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"

struct trunk {
	struct table *table;
	const json_t *containers;
	const char *network; /* whose branch is being drawn */
};

/* Its place on the network: where it is on that; NULL otherwise. */
static const json_t *place_on(const json_t *container, const char *network)
{
	const json_t *place;
	size_t i;

	json_array_foreach(doc_part(container, "networks"), i, place)
	{
		if (strcmp(doc_text(place, "network"), network) == 0)
			return place;
	}
	return NULL;
}

/* Those on a network stand there; of the others their word counts. */
static bool belongs(const struct trunk *trunk, const json_t *container)
{
	if (doc_count(container, "networks"))
		return place_on(container, trunk->network) != NULL;
	return strcmp(doc_text(container, "network"), trunk->network) == 0;
}

static void add_container(
	struct trunk *trunk, const json_t *container, int depth)
{
	const json_t *place = place_on(container, trunk->network);
	char state[96], reach[512];

	state_text(container, state);
	reach_text(container, reach, sizeof(reach));
	table_branch(trunk->table, depth);
	table_cell(trunk->table, "bold", "%s", doc_text(container, "name"));
	table_cell(trunk->table, state_colour(container), "%s", state);
	table_cell(trunk->table, NULL, "%s",
		doc_text(place ? place : container, "address"));
	table_cell(trunk->table, NULL, "%s", reach);
}

/* True where a container before this one is of the same group and branch: it is
 * drawn already. */
static bool is_drawn(const struct trunk *trunk, size_t at, const char *group)
{
	for (size_t i = 0; i < at; i++) {
		const json_t *one = json_array_get(trunk->containers, i);

		if (strcmp(doc_text(one, "group"), group) == 0 &&
			belongs(trunk, one))
			return true;
	}
	return false;
}

static void add_group(struct trunk *trunk, size_t from, const char *group)
{
	table_branch(trunk->table, 1);
	table_cell(trunk->table, "bold", "group:%s", group);
	for (size_t i = from; i < json_array_size(trunk->containers); i++) {
		const json_t *one = json_array_get(trunk->containers, i);

		if (strcmp(doc_text(one, "group"), group) == 0 &&
			belongs(trunk, one))
			add_container(trunk, one, 2);
	}
}

static void add_those_on(struct trunk *trunk)
{
	const json_t *one;
	size_t i;

	json_array_foreach(trunk->containers, i, one)
	{
		const char *group = doc_text(one, "group");

		if (!belongs(trunk, one))
			continue;
		if (!*group)
			add_container(trunk, one, 1);
		else if (!is_drawn(trunk, i, group))
			add_group(trunk, i, group);
	}
}

static void add_network(struct trunk *trunk, const json_t *network)
{
	bool up = doc_flag(network, "up");

	trunk->network = doc_text(network, "name");
	table_branch(trunk->table, 0);
	table_cell(trunk->table, "bold", "network:%s", trunk->network);
	table_cell(trunk->table, up ? "green" : NULL, "%s%s",
		up ? "up" : "down",
		doc_flag(network, "outside") ? "" : ", nothing outside");
	table_cell(trunk->table, NULL, "%s", doc_text(network, "subnet"));
	add_those_on(trunk);
}

static const char *title_of(const char *network)
{
	static const char *const titles[][2] = {{"", "no network"},
		{"none", "no network"}, {"host", "the host's network"},
		{"own", "a network of its own"}};

	for (size_t i = 0; i < sizeof(titles) / sizeof(*titles); i++) {
		if (strcmp(network, titles[i][0]) == 0)
			return titles[i][1];
	}
	return network;
}

/* What is on no network of ours: "none", "host", "with:NAME". */
static void add_others(struct trunk *trunk)
{
	const json_t *one;
	size_t i;

	json_array_foreach(trunk->containers, i, one)
	{
		bool first = !doc_count(one, "networks");

		trunk->network = doc_text(one, "network");
		for (size_t k = 0; first && k < i; k++)
			first = !belongs(
				trunk, json_array_get(trunk->containers, k));
		if (!first)
			continue;
		table_branch(trunk->table, 0);
		table_cell(
			trunk->table, "bold", "%s", title_of(trunk->network));
		add_those_on(trunk);
	}
}

int list_tree(
	struct invocation *call, const json_t *containers, struct th_error *err)
{
	struct trunk trunk = {.containers = containers};
	json_t *networks = NULL;
	const json_t *network;
	size_t i;

	if (th_list(call->hull, TH_KIND_NETWORK, true, &networks, err))
		return -1;
	trunk.table = table_new();
	table_column(trunk.table, "network", 0);
	table_column(trunk.table, "state", 0);
	table_column(trunk.table, "address", 0);
	table_column(trunk.table, "ports", TABLE_BREAK);
	json_array_foreach(doc_part(networks, "networks"), i, network)
	{
		add_network(&trunk, network);
	}
	add_others(&trunk);
	table_print(trunk.table);
	json_decref(networks);
	return 0;
}
