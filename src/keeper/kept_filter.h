/* The compiled system-call filter, for the program and what joins it. */
#ifndef TH_KEEPER_KEPT_FILTER_H
#define TH_KEEPER_KEPT_FILTER_H

#include <stdbool.h>

#include "base/buffer.h"
#include "base/error.h"

struct keeper;

struct kept_filter {
	struct th_buf code; /* empty: none, or in the file */
	int fd; /* of the sealed one, or -1 */
};

void keeper_filter_init(struct kept_filter *filter);
/* Reads the one that the plan names; false where it is to be compiled. */
bool keeper_open_filter(struct keeper *keeper);
/* Compiles the bundle's, where none was read. */
int keeper_load_filter(struct keeper *keeper, struct th_error *err);
/* For another process in the container; NULL: it has none. It is not kept in
 * memory where a file has it. */
int keeper_filter(struct keeper *keeper, const struct th_buf **filter,
	struct th_error *err);
void keeper_drop_filter(struct keeper *keeper);
/* True while it takes memory that it need not. */
bool keeper_filter_is_loaded(const struct keeper *keeper);
void keeper_filter_release(struct kept_filter *filter);

#endif
