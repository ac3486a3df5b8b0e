/* How a table fits the terminal. */
#ifndef CLI_TABLE_FIT_H
#define CLI_TABLE_FIT_H

#include <libsmartcols.h>
#include <stdbool.h>

/* What table_column was given, kept for table_fit. */
void table_fit_keep(struct libscols_column *column, int flags);
/* Makes the table fit so many columns of the terminal, as far as it can: what
 * is of little use is left out where that may be (it is not where columns were
 * chosen), then long texts are broken. Names stay whole. */
void table_fit(struct libscols_table *table, size_t room, bool may_leave_out);

#endif
