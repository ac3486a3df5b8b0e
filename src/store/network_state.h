/* Networks, and which containers are to be on them. */
#ifndef TH_STORE_NETWORK_STATE_H
#define TH_STORE_NETWORK_STATE_H

#include "base/buffer.h"
#include "store/container_state.h"
#include "store/store.h"

struct th_network_row {
	char name[TH_NAME_MAX];
	int64_t number; /* of its bridge */
	/* "10.70.16.0/20"; "" before it is first needed, or without. */
	char subnet4[TH_ADDRESS_TEXT], subnet6[TH_ADDRESS_TEXT];
	bool given4, given6; /* a person chose the subnet: it stays */
	bool internal; /* without a way out */
	bool loopback; /* the host's can be used from it (users only) */
	bool by_hand; /* it did not come by itself */
	int64_t created_us;
	int64_t users; /* containers that are to be on it, running or not */
	int64_t running; /* those that are */
};

/* Makes the network where there is none of the name; of the row, name,
 * subnets, given and the flags count: 1 made, 0 it was there, -1. */
int th_network_make(struct th_store *store, const struct th_network_row *row,
	struct th_error *err);
/* By name, or all by age (name NULL); *rows is to be freed. */
int th_network_list(struct th_store *store, const char *name,
	struct th_network_row **rows, size_t *count, struct th_error *err);
/* The names of the containers that are to be on it. */
int th_network_users(struct th_store *store, const char *name,
	struct th_strings *names, struct th_error *err);
/* TH_IN_USE where a container is to be on it. */
int th_network_forget(
	struct th_store *store, const char *name, struct th_error *err);
/* The subnets that it has from now on. */
int th_network_set_subnets(struct th_store *store, const char *name,
	const char *subnet4, const char *subnet6, struct th_error *err);

/* Notes the networks of a container, the first one first. TH_NOT_FOUND where
 * one was removed meanwhile. */
int th_network_use(struct th_store *store, const char *container,
	const struct th_network_use *uses, size_t count, struct th_error *err);
int th_network_uses(struct th_store *store, const char *container,
	struct th_network_use uses[TH_NETWORKS_MAX], size_t *count,
	struct th_error *err);
/* The same with the addresses that it holds now. */
int th_network_places(struct th_store *store, const char *container,
	struct th_network_use uses[TH_NETWORKS_MAX], size_t *count,
	struct th_error *err);
/* The name of the container that asks for the address, or holds it, but for
 * the one given: 1, 0, -1. */
int th_network_address_holder(struct th_store *store, const char *network,
	const char *address, const char *except, char holder[TH_NAME_MAX],
	struct th_error *err);

#endif
