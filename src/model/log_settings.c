#include "model/log_settings.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "base/size.h"

#define DEFAULT_SIZE (64u << 20)
#define DEFAULT_FILES 16 /* 1 GiB in all */
#define LEAST_SIZE (64u << 10)
#define MOST_FILES 10000

int th_log_settings_parse(const char *text, struct th_log_settings *settings,
	struct th_error *err)
{
	char copy[128], *rest = NULL;
	const char *number;
	char meant[TH_SIZE_EXACT];
	uint64_t bytes;

	*settings = (struct th_log_settings){
		.size_bytes = DEFAULT_SIZE, .files = DEFAULT_FILES};
	snprintf(copy, sizeof(copy), "%s", text ? text : "");
	for (char *part = strtok_r(copy, ",", &rest); part;
		part = strtok_r(NULL, ",", &rest)) {
		char *end = part;

		if (strcmp(part, "journal") == 0) {
			settings->journal = true;
			continue;
		}
		if (strncmp(part, "size=", 5) == 0 &&
			th_size_parse(part + 5, &settings->size_bytes) == 0 &&
			settings->size_bytes >= LEAST_SIZE)
			continue;
		if (strncmp(part, "files=", 6) == 0) {
			settings->files = (int)strtol(part + 6, &end, 10);
			if (end != part + 6 && !*end && settings->files >= 1 &&
				settings->files <= MOST_FILES)
				continue;
		}
		th_fail(err, TH_USAGE, "\"%.60s\" is not a log setting", part);
		if (strcmp(part, "none") == 0 || strcmp(part, "off") == 0 ||
			strcmp(part, "no") == 0)
			return th_hint(err,
				"there is always a log; a small one: --log "
				"size=64K,files=1");
		number = strstr(part, "size=");
		number = number ? number + 5 : part;
		/* "max-file=3" */
		if (strstr(part, "file=") && part[0] != 'f')
			return th_hint(err, "it is: --log files=%.20s",
				strstr(part, "file=") + 5);
		if (th_size_meant(number, meant))
			number = meant;
		if (th_size_parse(number, &bytes) == 0)
			return th_hint(err,
				bytes < LEAST_SIZE
					? "the minimum size is 64K; in "
					  "megabytes: --log size=%.20sM"
					: "it is: --log size=%.20s",
				number);
		return th_hint(err,
			"for example --log size=64M,files=10,journal; the "
			"minimum size is 64K");
	}
	if (text && strlen(text) >= sizeof(copy))
		return th_fail(err, TH_USAGE, "the log setting is too long");
	return 0;
}

void th_log_settings_format(
	const struct th_log_settings *settings, char text[TH_LOG_TEXT])
{
	char size[TH_SIZE_EXACT];
	size_t used = 0;

	text[0] = '\0';
	if (settings->size_bytes != DEFAULT_SIZE) {
		th_size_exact(settings->size_bytes, size);
		snprintf(text, TH_LOG_TEXT, ",size=%s", size);
		used = strlen(text);
	}
	if (settings->files != DEFAULT_FILES)
		snprintf(text + used, TH_LOG_TEXT - used, ",files=%d",
			settings->files);
	used = strlen(text);
	if (settings->journal)
		snprintf(text + used, TH_LOG_TEXT - used, ",journal");
	/* Without the first comma. */
	if (*text)
		memmove(text, text + 1, strlen(text));
}

json_t *th_log_settings_to_json(const struct th_log_settings *settings)
{
	return json_pack("{s:I s:i s:b}", "size",
		(json_int_t)settings->size_bytes, "files", settings->files,
		"journal", settings->journal);
}

int th_log_settings_from_json(const json_t *doc,
	struct th_log_settings *settings, struct th_error *err)
{
	static const char what[] = "the log's settings";
	int64_t size = DEFAULT_SIZE, files = DEFAULT_FILES;

	memset(settings, 0, sizeof(*settings));
	if (th_json_int(doc, "size", what, &size, err) < 0 ||
		th_json_int(doc, "files", what, &files, err) < 0 ||
		th_json_bool(doc, "journal", what, &settings->journal, err) < 0)
		return -1;
	if (size < (int64_t)LEAST_SIZE || files < 1 || files > MOST_FILES)
		return th_fail(err, TH_FAILED, "%s are not valid", what);
	settings->size_bytes = (uint64_t)size;
	settings->files = (int)files;
	return 0;
}
