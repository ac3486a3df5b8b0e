/* The tables of the state database: one list of statements for each step from
 * a version to the next. Steps that were released are never changed. */
#ifndef TH_STORE_SCHEMA_H
#define TH_STORE_SCHEMA_H

#define TH_SCHEMA_VERSION 12

/* Containers that may run, or go with a build: a query that says it in these
 * words is answered by their index. */
#define TH_SCHEMA_UP "(state NOT IN ('created', 'stopped') OR build<>'')"

extern const char *const *const th_schema_steps[TH_SCHEMA_VERSION];

#endif
