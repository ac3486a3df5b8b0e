#include "store/network_state.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "store/image_state.h"
#include "unit/unit.h"

#define DIGEST                                                                 \
	"sha256:a123456789abcdef0123456789abcdef0123456789abcdef"              \
	"0123456789abcdef"

/* A store with an image and the containers heron and tern. */
static struct th_store *open_store(void)
{
	static const char *const names[] = {"heron", "tern"};
	struct th_image_row image = {
		.config = DIGEST, .digest = DIGEST, .platform = "linux/amd64"};
	struct th_image_layer layer = {DIGEST, DIGEST, DIGEST, 500, 4096};
	struct th_store *store = NULL;
	struct th_error err = {0};
	char root[96], run[96];

	snprintf(root, sizeof(root), "%s/store", unit_folder);
	snprintf(run, sizeof(run), "%s/run", unit_folder);
	if (th_store_open(root, run, false, &store, &err) ||
		th_image_state_add(
			store, &image, &layer, 1, "selwick/base", NULL, &err))
		abort();
	for (size_t i = 0; i < COUNT_OF(names); i++) {
		struct th_container_row row = {.keep = true, .image = DIGEST};

		snprintf(row.id, sizeof(row.id), "%s", names[i]);
		snprintf(row.name, sizeof(row.name), "%s", names[i]);
		CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	}
	return store;
}

static int make(struct th_store *store, const char *name, const char *subnet)
{
	struct th_network_row row = {
		.by_hand = *subnet != '\0', .given4 = *subnet != '\0'};
	struct th_error err = {0};

	snprintf(row.name, sizeof(row.name), "%s", name);
	snprintf(row.subnet4, sizeof(row.subnet4), "%s", subnet);
	return th_network_make(store, &row, &err);
}

static struct th_network_row get(struct th_store *store, const char *name)
{
	struct th_network_row *rows = NULL, row = {.number = -1};
	struct th_error err = {0};
	size_t count = 0;

	CHECK_INT(th_network_list(store, name, &rows, &count, &err), 0);
	if (count == 1)
		row = rows[0];
	free(rows);
	return row;
}

static void they_are_made_once_and_numbered(void)
{
	struct th_store *store = open_store();

	CHECK_INT(make(store, "quayside", ""), 1);
	CHECK_INT(make(store, "berths", "10.20.0.0/24"), 1);
	CHECK_INT(make(store, "berths", "10.30.0.0/24"), 0);
	CHECK_INT(get(store, "quayside").number, 0);
	CHECK_INT(get(store, "berths").number, 1);
	CHECK_TEXT(get(store, "berths").subnet4, "10.20.0.0/24");
	CHECK(get(store, "berths").by_hand);
	CHECK(!get(store, "quayside").by_hand);
	CHECK_INT(get(store, "canal").number, -1);
	th_store_close(store);
}

static void what_a_container_is_to_be_on_stays(void)
{
	const struct th_network_use wishes[] = {
		{"berths", "10.20.0.9", ""}, {"quayside", "", ""}};
	const struct th_network_use lost[] = {{"canal", "", ""}};
	struct th_network_use uses[TH_NETWORKS_MAX];
	struct th_store *store = open_store();
	struct th_strings names = {0};
	char holder[TH_NAME_MAX] = "";
	struct th_error err = {0};
	size_t count = 0;

	make(store, "quayside", "");
	make(store, "berths", "");
	CHECK_INT(th_network_use(store, "heron", wishes, 2, &err), 0);
	CHECK_INT(th_network_uses(store, "heron", uses, &count, &err), 0);
	CHECK_INT(count, 2);
	CHECK_TEXT(uses[0].network, "berths");
	CHECK_TEXT(uses[0].address4, "10.20.0.9");
	CHECK_TEXT(uses[1].network, "quayside");
	/* It has no place before it runs. */
	CHECK_INT(th_network_places(store, "heron", uses, &count, &err), 0);
	CHECK_INT(count, 2);
	CHECK_TEXT(uses[0].address4, "");
	/* Who counts on an address counts on the subnet. */
	CHECK(get(store, "berths").given4);
	CHECK(!get(store, "quayside").given4);
	CHECK_INT(get(store, "berths").users, 1);
	CHECK_INT(get(store, "berths").running, 0);
	CHECK_INT(th_network_address_holder(
			  store, "berths", "10.20.0.9", "", holder, &err),
		1);
	CHECK_TEXT(holder, "heron");
	CHECK_INT(th_network_address_holder(
			  store, "berths", "10.20.0.9", "heron", holder, &err),
		0);
	CHECK_INT(th_network_address_holder(
			  store, "quayside", "10.20.0.9", "", holder, &err),
		0);
	CHECK_INT(th_network_users(store, "berths", &names, &err), 0);
	CHECK_INT(names.count, 1);
	CHECK_TEXT(names.items[0], "heron");
	th_strings_release(&names);
	/* In use is in use, until the container is gone. */
	CHECK_INT(th_network_forget(store, "berths", &err), -1);
	CHECK_INT(err.code, TH_IN_USE);
	th_error_clear(&err);
	CHECK_INT(th_network_use(store, "tern", lost, 1, &err), -1);
	CHECK_INT(err.code, TH_NOT_FOUND);
	th_error_clear(&err);
	CHECK_INT(th_state_remove(store->db, "heron", "test", &err), 0);
	CHECK_INT(th_network_forget(store, "berths", &err), 0);
	CHECK_INT(get(store, "berths").number, -1);
	th_store_close(store);
}

static const CU_TestInfo tests[] = {
	{"they are made once and numbered", they_are_made_once_and_numbered},
	{"what a container is to be on stays",
		what_a_container_is_to_be_on_stays},
	CU_TEST_INFO_NULL};

const struct suite suite_network_state = {"networks in the state", tests};
