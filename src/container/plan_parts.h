/* What the reading of plans shares. */
#ifndef TH_CONTAINER_PLAN_PARTS_H
#define TH_CONTAINER_PLAN_PARTS_H

#include "container/plan.h"

#define PLAN_NAME "plan.json"

/* A copy of a member's text: 1, 0 (not there), -1. */
int plan_copy(
	const json_t *doc, const char *key, char **copy, struct th_error *err);
/* plan_texts.c: what a plan of version 1 has as texts of settings. */
int plan_read_texts(
	const json_t *doc, struct th_plan *plan, struct th_error *err);

#endif
