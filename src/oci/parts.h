/* The parts that config.json is read by. For the oci module only. */
#ifndef TH_OCI_PARTS_H
#define TH_OCI_PARTS_H

#include "oci/bundle.h"
#include "oci/read.h"

/* process.c */
int read_process(
	const json_t *doc, struct th_process *out, struct th_error *err);
void process_release(struct th_process *process);
/* linux.c: 1, 0 where there is no such part, -1. */
int read_linux(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err);
/* linux.c: an array of ID mappings. */
int read_id_maps(const json_t *object, const char *key, const char *where,
	struct th_id_maps *maps, struct th_error *err);

#endif
