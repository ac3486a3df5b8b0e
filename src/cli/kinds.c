#include "cli/kinds.h"

#include <string.h>
#include <strings.h>

#include "cli/elsewhere.h"
#include "cli/line.h"
#include "cli/right_line.h"
#include "cli/wrong_option.h"

static const char *const kinds[] = {
	"container", "image", "volume", "network", "session", "group"};

#define ALL                                                                    \
	(TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_VOLUME |                  \
		TH_KIND_NETWORK | TH_KIND_SESSION | TH_KIND_GROUP)

const char *kind_word(const char *word, size_t len)
{
	for (size_t i = 0; i < sizeof(kinds) / sizeof(*kinds); i++) {
		size_t own = strlen(kinds[i]);

		if (strncasecmp(kinds[i], word, own < len ? own : len) == 0 &&
			(len == own ||
				(len == own + 1 && (word[own] | 32) == 's')))
			return kinds[i];
	}
	return NULL;
}

bool kind_is_taken(const struct verb *verb, const char *kind)
{
	/* States are those of containers. */
	static const char *const states[] = {"running", "paused", "up", "down"};
	const char *takes = verb->takes ? verb->takes : "";
	bool taken = have_word(takes, kind, strlen(kind));

	for (size_t i = 0; i < sizeof(states) / sizeof(*states); i++)
		taken = taken ||
			(strcmp(kind, kinds[0]) == 0 &&
				have_word(takes, states[i], strlen(states[i])));
	return taken;
}

int kind_refuse(const struct invocation *call, struct th_error *err)
{
	const char *first = call->object_count > 1 ? call->objects[0] : "";
	const char *kind = kind_word(first, strlen(first));
	struct line line, right;

	if (!kind || !kind_is_taken(call->verb, kind))
		return 0;
	th_fail(err, TH_USAGE,
		"there is no %s \"%s\": names of all kinds are given as they "
		"are",
		strcmp(kind, first) == 0 ? "object" : kind, first);
	line_get(&line);
	line_put(&line, line_find(&line, first), 1, NULL, NULL);
	right = line;
	return line_hint(err,
		"it is: ", right_line(call->verb, &right) ? &right : &line);
}

/* "stop all": what that takes is an option. */
static int refuse_all(const struct invocation *call, struct th_error *err)
{
	struct line line;

	if (call->object_count != 1 || strcmp(call->objects[0], "all") != 0 ||
		!option_spec(call->verb, "all", 3))
		return 0;
	th_fail(err, TH_USAGE, "there is no object \"all\"");
	line_get(&line);
	line_put(&line, line_find(&line, "all"), 1, "--all", NULL);
	return line_hint(err, "it is: ", &line);
}

int kind_refuse_unknown(const struct invocation *call, struct th_error *err)
{
	struct th_error none = {0};

	if ((kind_refuse(call, err) == 0 && refuse_all(call, err) == 0) ||
		th_object(call->hull, call->objects[0], ALL, TH_BRIEF, NULL,
			&none) != 0)
		return err->code ? -1 : 0;
	th_error_clear(err);
	return 0;
}
