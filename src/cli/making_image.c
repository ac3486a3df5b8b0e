#include "cli/making_image.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#include "layer/deflate.h"

/* Year 9999: what RFC 3339 can say. */
#define LAST_SECOND 253402300799LL

int epoch_read(int64_t *time_s, struct th_error *err)
{
	const char *text = getenv("SOURCE_DATE_EPOCH");
	char *end;

	*time_s = -1;
	if (!text || !*text)
		return 0;
	errno = 0;
	*time_s = strtoll(text, &end, 10);
	if (errno || *end || *time_s < 0 || *time_s > LAST_SECOND ||
		strspn(text, "0123456789") != strlen(text)) {
		th_fail(err, TH_USAGE,
			"SOURCE_DATE_EPOCH is \"%.60s\", which is not a number "
			"of seconds",
			text);
		return th_hint(err, "for example: date --date 2026-11-05 +%%s");
	}
	return 0;
}

int compression_read(struct invocation *call, enum th_compression *compression,
	int *level, struct th_error *err)
{
	const char *text = option_value(call, "compress");

	return th_compression_parse(
		text ? text : "gzip", compression, level, err);
}

int image_name_read(const char *text, char name[TH_REFERENCE_MAX + 256],
	struct th_error *err)
{
	struct th_reference ref;

	if (th_reference_parse(text, &ref, err))
		return -1;
	if (ref.digest[0]) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" contains a digest, which cannot be "
			"assigned",
			text);
		return th_hint(err, "leave out the part after the @");
	}
	th_reference_format(&ref, name);
	return 0;
}
