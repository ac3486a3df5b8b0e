/* The tag of a store: a few characters that tell its devices, rules and control
 * groups from those of other stores on the same host. */
#ifndef TH_STORE_TAG_H
#define TH_STORE_TAG_H

#include "store/store.h"

/* What the state says of it; -1. */
int th_tag_read(struct th_store *store, struct th_error *err);

/* It stands beside the database, too: one that was made anew, as the other was
 * lost, has the devices and groups of the store's containers all the same
 * (state_lost is set then). A copy of a store, whose containers have the same
 * IDs, gets a tag of its own, for this once where it cannot be written. -1
 * where the file is not there and cannot be made. */
int th_tag_keep(struct th_store *store, struct th_error *err);

/* For a state that cannot be written: that of a copy has a tag for this once.
 */
void th_tag_borrow(struct th_store *store);

#endif
