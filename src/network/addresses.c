#include "network/addresses.h"

#include <arpa/inet.h>
#include <stdlib.h>

#include "store/replacement_state.h"

/* The lowest place that nobody has or asks for. */
static int free_slot(struct th_store *store, const struct th_network_row *row,
	const struct th_subnet *subnet, int64_t *slot, struct th_error *err)
{
	struct th_query *query = NULL;
	int last = th_subnet_last(subnet), rc;
	unsigned char *taken = calloc(1, (size_t)last / 8 + 1);

	if (!taken)
		return th_fail_memory(err);
	if (th_db_query(store->db, &query, err,
		    "SELECT address4 FROM addresses WHERE network=?1 UNION ALL"
		    " SELECT address4 FROM network_uses WHERE network=?1"
		    " AND address4<>''",
		    "t", row->name)) {
		free(taken);
		return -1;
	}
	while ((rc = th_query_next(query, err)) == 1) {
		struct in_addr address;
		int one = inet_pton(AF_INET, th_query_text(query, 0),
				  &address) == 1
			? subnet_slot4(subnet, address)
			: -1;

		if (one >= 0)
			taken[one / 8] |= (unsigned char)(1 << one % 8);
	}
	th_query_end(query);
	*slot = 2;
	while (*slot <= last && taken[*slot / 8] & 1 << *slot % 8)
		(*slot)++;
	free(taken);
	if (rc < 0)
		return -1;
	if (*slot > last)
		return th_fail(err, TH_NOT_POSSIBLE,
			"the network \"%s\" has no free addresses", row->name);
	return 0;
}

/* The place of the container whose place it takes, if that is free: others may
 * have looked its name up once and for all. */
static int former_slot(struct th_store *store, const struct th_network_row *row,
	const char *container, const struct th_subnet *subnet, int64_t *slot,
	struct th_error *err)
{
	char text[TH_ADDRESS_TEXT];
	struct in_addr address;
	int64_t taken = 0;
	int rc = th_replacement_address(
		store->db, container, row->name, text, err);

	if (rc <= 0 || inet_pton(AF_INET, text, &address) != 1)
		return rc < 0 ? -1 : 0;
	*slot = subnet_slot4(subnet, address);
	if (*slot < 2 ||
		th_db_number(store->db, 0, &taken, err,
			"SELECT EXISTS(SELECT 1 FROM addresses WHERE network=?1"
			" AND address4=?2) OR EXISTS(SELECT 1 FROM network_uses"
			" WHERE network=?1 AND address4=?2)",
			"tt", row->name, text))
		return err->code ? -1 : 0;
	return !taken;
}

int addresses_take(struct th_store *store, const struct th_network_row *row,
	const struct th_network_use *use, const char *container,
	const struct th_subnet *subnet, struct th_plug *plug,
	struct th_error *err)
{
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT] = "";
	int64_t slot = 0;
	int rc = 1;

	if (use->address4[0] &&
		inet_pton(AF_INET, use->address4, &plug->four) == 1)
		slot = subnet_slot4(subnet, plug->four);
	else
		rc = former_slot(store, row, container, subnet, &slot, err);
	if (rc < 0 || (rc == 0 && free_slot(store, row, subnet, &slot, err)))
		return -1;
	plug->four = th_subnet_address4(subnet, (int)slot);
	inet_ntop(AF_INET, &plug->four, four, sizeof(four));
	if (subnet->has6) {
		plug->six = th_subnet_address6(subnet, (int)slot);
		if (use->address6[0])
			inet_pton(AF_INET6, use->address6, &plug->six);
		inet_ntop(AF_INET6, &plug->six, six, sizeof(six));
	}
	if (th_db_run(store->db, err,
		    "INSERT INTO addresses(network, slot, container, address4,"
		    " address6) VALUES(?, ?, ?, ?, ?)",
		    "titt"
		    "t",
		    use->network, slot, container, four, six) == 0)
		return 0;
	if (err->code == TH_IN_USE) {
		th_error_clear(err);
		th_fail(err, TH_IN_USE,
			"the address %s on the network \"%s\" is used by "
			"another container",
			four, use->network);
	}
	return -1;
}
