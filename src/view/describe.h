/* Objects as JSON, by the one schema of docs/json.md. */
#ifndef CLI_DESCRIBE_H
#define CLI_DESCRIBE_H

#include <jansson.h>

#include "container/container.h"

/* A container as list shows it. */
json_t *th_view_container(
	const struct th_context *context, const struct th_container_row *row);
/* The same of many, one after the other, each gone when the next one comes: a
 * long list of documents costs more than what it is made of. */
void th_view_each(const struct th_context *context,
	const struct th_container_row *rows, size_t count,
	void (*take)(void *owner, json_t *container), void *owner);
/* With its settings, as show does. Values of secret settings are hidden
 * unless reveal says so. */
json_t *th_view_container_fully(const struct th_context *context,
	const struct th_container_row *row, bool reveal);
json_t *th_view_image(const struct th_image_row *row);
/* With its configuration and layers. */
json_t *th_view_image_fully(
	const struct th_context *context, const struct th_image_row *row);

/* A group and its containers in their order, each with those that it waits for;
 * fully: with their settings. NULL with an error. */
json_t *th_view_group(const struct th_context *context, const char *name,
	bool fully, struct th_error *err);
json_t *th_view_network(
	const struct th_context *context, const struct th_network_row *row);
/* A volume, with who has it. */
json_t *th_view_volume(
	const struct th_context *context, const struct th_volume_row *row);
/* A session, for list and show. */
json_t *th_view_session(const struct th_session_row *row);

#endif
