/* new: a volume or a network by hand. */
#include <stdio.h>
#include <string.h>

#include "base/distance.h"
#include "cli/elsewhere.h"
#include "cli/line.h"
#include "cli/output.h"
#include "cli/verbs.h"

static int new_volume(struct invocation *call, const char *name)
{
	struct th_error err = {0};

	if (th_volume_new(call->hull, name, &err))
		return say_error(&err);
	if (!call->quiet)
		printf("created the volume %s; to mount it: --mount "
		       "/data=volume:%s\n",
			name, name);
	return EXIT_DONE;
}

static int new_network(struct invocation *call, const char *name)
{
	bool internal = option_given(call, "internal");
	bool loopback = option_given(call, "host-loopback");
	json_t *subnets = option_list(call, "subnet");
	struct th_error err = {0};
	int rc = th_network_create(
		call->hull, name, subnets, internal, loopback, &err);

	json_decref(subnets);
	if (rc)
		return say_error(&err);
	if (!call->quiet)
		printf("created the network %s%s; to join it: --network %s\n",
			name,
			internal ? ", without access to the outside"
				: loopback
				? ", with access to the host's loopback"
				: "",
			name);
	return EXIT_DONE;
}

/* Other words for the two kinds, and what other verbs make. */
static int wrong_kind(const struct invocation *call, const char *kind)
{
	static const char *const makes[] = {"volume", "network", NULL};
	const char *made = have_word("volumes vol vols", kind, strlen(kind))
		? "volume"
		: have_word("networks net nets", kind, strlen(kind)) ? "network"
								     : NULL;
	struct th_error err = {0};
	struct line line;

	if (!made &&
		(strcmp(call->objects[1], "network") == 0 ||
			strcmp(call->objects[1], "volume") == 0)) {
		th_fail(&err, TH_USAGE, "\"%.50s\" cannot be created with new",
			kind);
		th_hint(&err, "the kind comes first: tidyhull new %s %.60s",
			call->objects[1], kind);
		return say_error(&err);
	}
	if (made) {
		th_fail(&err, TH_USAGE,
			"new makes a \"volume\" or a "
			"\"network\", not a \"%.30s\"",
			kind);
		line_get(&line);
		line_put(&line, line_find(&line, kind), 1, made, NULL);
		line_hint(&err, "it is: ", &line);
		return say_error(&err);
	}
	th_fail(&err, TH_USAGE, "\"%.50s\" cannot be created with new", kind);
	if (strcmp(kind, "container") == 0)
		th_hint(&err,
			"another verb does it: tidyhull create IMAGE "
			"--name %.60s",
			call->objects[1]);
	if (strcmp(kind, "image") == 0)
		th_hint(&err,
			"another verb does it: tidyhull build RECIPE, "
			"or tidyhull capture CONTAINER %.60s",
			call->objects[1]);
	if (strcmp(kind, "secret") == 0)
		th_hint(&err,
			"secrets are given to a container: --secret "
			"%.60s=@ask",
			call->objects[1]);
	if (strcmp(kind, "group") == 0)
		th_hint(&err,
			"a settings file describes it: tidyhull launch "
			"--settings FILE");
	line_get(&line);
	if (th_nearest(kind, makes)) {
		line_put(&line, line_find(&line, kind), 1,
			th_nearest(kind, makes), NULL);
		line_hint(&err, "it is: ", &line);
	}
	th_hint(&err, "use new volume NAME or new network NAME");
	return say_error(&err);
}

static int run(struct invocation *call)
{
	const char *kind = call->objects[0];
	bool volume = strcmp(kind, "volume") == 0;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (!volume && strcmp(kind, "network") != 0)
		return wrong_kind(call, kind);
	if (volume &&
		(option_given(call, "subnet") ||
			option_given(call, "internal") ||
			option_given(call, "host-loopback"))) {
		th_fail(&err, TH_USAGE,
			"--subnet, --internal and --host-loopback apply to "
			"networks only");
		return say_error(&err);
	}
	if (option_given(call, "subnet") && call->object_count > 2) {
		th_fail(&err, TH_USAGE,
			"two networks cannot have the same subnet");
		th_hint(&err, "create them one at a time");
		return say_error(&err);
	}
	for (int i = 2; i < call->object_count; i++) {
		const char *more = call->objects[i];

		/* Before the first one is made. */
		if (!strchr(more, '/'))
			continue;
		th_fail(&err, TH_USAGE, "\"%.100s\" is not a valid name", more);
		if (volume)
			th_hint(&err,
				"where it is seen is said later: --mount "
				"%.60s=volume:%.60s",
				more, call->objects[1]);
		else
			th_hint(&err,
				"it is: tidyhull new network %.60s --subnet "
				"%.60s",
				call->objects[1], more);
		return say_error(&err);
	}
	for (int i = 1; i < call->object_count; i++) {
		int one = volume ? new_volume(call, call->objects[i])
				 : new_network(call, call->objects[i]);

		code = code ? code : one;
	}
	return code;
}

static const struct option_spec options[] = {
	{"subnet", "BLOCK", "for a network: 10.20.0.0/24, fd20::/64, or both"},
	{"internal", NULL, "for a network: no access to the outside"},
	{"host-loopback", NULL,
		"for a user's network: the host's loopback can be used"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Both are created automatically when --mount or --network first names",
	"them. Use this to create one in advance, or a network with a subnet "
	"of",
	"your choice.", NULL};

static const char *const examples[] = {"tidyhull new volume ledger",
	"tidyhull new network berths",
	"tidyhull new network pilots --internal --subnet 10.20.0.0/24", NULL};

const struct verb verb_new = {.name = "new",
	.group = "other objects",
	.called = "mkdir mkvol",
	.takes = "new",
	.summary = "create a volume or a network",
	.usage = "volume|network NAME...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 2,
	.most = -1,
	.run = run};
