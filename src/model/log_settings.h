/* How much of a container's log is kept, and where else it goes. */
#ifndef TH_MODEL_LOG_SETTINGS_H
#define TH_MODEL_LOG_SETTINGS_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

struct th_log_settings {
	uint64_t size_bytes; /* of a file, before the next is begun */
	int files; /* the oldest goes when there would be more */
	bool journal; /* the systemd journal gets it too */
};

/* Reads "size=64M,files=64,journal"; NULL and "" are the defaults. TH_USAGE
 * otherwise. */
int th_log_settings_parse(const char *text, struct th_log_settings *settings,
	struct th_error *err);
/* Such a text, without what is the default. */
#define TH_LOG_TEXT 80
void th_log_settings_format(
	const struct th_log_settings *settings, char text[TH_LOG_TEXT]);
json_t *th_log_settings_to_json(const struct th_log_settings *settings);
int th_log_settings_from_json(const json_t *doc,
	struct th_log_settings *settings, struct th_error *err);

#endif
