/* The expressions that the packet filter's rules are made of: each one works on
 * registers and ends the rule where it does not hold. */
#ifndef TH_NETWORK_EXPRESSION_H
#define TH_NETWORK_EXPRESSION_H

#include <stdbool.h>
#include <stddef.h>

#include "network/netlink.h"

/* Loads what the kernel knows of the packet (NFT_META_...). */
void expression_meta(struct th_netlink *batch, uint32_t key, uint32_t to);
/* Loads what it knows of its connection (NFT_CT_...). */
void expression_connection(struct th_netlink *batch, uint32_t key);
/* Loads bytes of a header. */
void expression_payload(struct th_netlink *batch, uint32_t base,
	uint32_t offset, uint32_t len, uint32_t to);
/* Loads the kind of route that its target has (RTN_...). */
void expression_target_kind(struct th_netlink *batch);
/* Cuts the first register to the mask; compares it (NFT_CMP_...). */
void expression_mask(struct th_netlink *batch, const void *mask, size_t len);
void expression_compare(struct th_netlink *batch, uint32_t operator,
	const void * value, size_t len);
/* Looks the key in the register up in the map; the value takes its place. */
void expression_lookup(struct th_netlink *batch, const char *map, uint32_t at);
/* Leads the packet to the address and port in the registers. */
void expression_forward(struct th_netlink *batch, bool six, uint32_t at);
void expression_masquerade(struct th_netlink *batch);
/* Tells the sender that the way is closed (ICMP, "prohibited"). */
void expression_refuse(struct th_netlink *batch);
/* NF_ACCEPT, NF_DROP. */
void expression_verdict(struct th_netlink *batch, int verdict);

#endif
