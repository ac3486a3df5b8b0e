/* A network that a container is to be on. */
#ifndef TH_MODEL_NETWORK_USE_H
#define TH_MODEL_NETWORK_USE_H

#include <jansson.h>
#include <stdbool.h>

#include "base/error.h"
#include "model/name.h"
#include "model/port.h"

/* Networks that one container can be on. */
#define TH_NETWORKS_MAX 8
/* All of them as the state has it: "host", "none", "own", "with:ID", or names
 * with commas between. */
#define TH_NETWORK_TEXT 256

/* The network of containers that name no other. */
#define TH_NETWORK_DEFAULT "quayside"

/* A network that only the container itself is in: its ports can be published,
 * and nothing else leads in or out. */
#define TH_NETWORK_OWN "own"

/* Before the ID of the container whose network is shared. */
#define TH_NETWORK_WITH "with:"

/* True for those that have a bridge; "host", "none", "own" and "with:" have
 * none. */
bool th_network_is_shared(const char *name);
/* True for what shares the network of another container. */
bool th_network_is_with(const char *name);

/* One with a bridge, and the addresses that are asked for there. */
struct th_network_use {
	char network[TH_NAME_MAX];
	char address4[TH_ADDRESS_TEXT], address6[TH_ADDRESS_TEXT]; /* or "" */
};

/* Reads "berths" or "berths,address=10.20.0.9,address=fd20::9". TH_USAGE
 * otherwise. */
int th_network_use_parse(
	const char *text, struct th_network_use *use, struct th_error *err);
/* Such a text, to be freed; NULL without memory. */
char *th_network_use_format(const struct th_network_use *use);
json_t *th_network_use_to_json(const struct th_network_use *use);
int th_network_use_from_json(
	const json_t *doc, struct th_network_use *use, struct th_error *err);

#endif
