#include "cli/making_image.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#include "cli/doc.h"

/* Year 9999: what RFC 3339 can say. */
#define LAST_SECOND 253402300799LL

int image_wish_read(
	const struct invocation *call, json_t *wish, struct th_error *err)
{
	const char *text = getenv("SOURCE_DATE_EPOCH");
	long long time_s;
	char *end;

	doc_set(wish, "compress", option_value(call, "compress"));
	if (!text || !*text)
		return 0;
	errno = 0;
	time_s = strtoll(text, &end, 10);
	if (errno || *end || time_s < 0 || time_s > LAST_SECOND ||
		strspn(text, "0123456789") != strlen(text)) {
		th_fail(err, TH_USAGE,
			"SOURCE_DATE_EPOCH is \"%.60s\", which is not a number "
			"of seconds",
			text);
		return th_hint(err, "for example: date --date 2026-11-05 +%%s");
	}
	json_object_set_new(wish, "time", json_integer(time_s));
	return 0;
}
