/* logout: forget the credentials for a registry. */
#include <stdio.h>

#include "cli/output.h"
#include "cli/verbs.h"

static int forget(struct invocation *call, const char *host)
{
	struct th_error err = {0};
	int rc = th_logins_forget(call->hull.logins_path, host, &err);

	if (rc == 0)
		rc = th_fail(
			&err, TH_NOT_FOUND, "no login is stored for %s", host);
	if (rc < 0)
		return say_error(&err);
	if (!call->quiet)
		printf("removed the login for %s\n", host);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (option_given(call, "all")) {
		for (size_t i = 0; i < call->hull.logins.count; i++) {
			int one = forget(call, call->hull.logins.list[i].host);

			code = code ? code : one;
		}
		return code;
	}
	if (call->object_count == 0) {
		th_fail(&err, TH_USAGE, "no registry given");
		th_hint(&err, "give its host, or use --all");
		return say_error(&err);
	}
	for (int i = 0; i < call->object_count; i++) {
		int one = forget(call, call->objects[i]);

		code = code ? code : one;
	}
	return code;
}

static const struct option_spec options[] = {
	{"all", NULL, "for all registries"}, {NULL, NULL, NULL}};

static const char *const examples[] = {
	"tidyhull logout registry.selwick.example", NULL};

const struct verb verb_logout = {.name = "logout",
	.group = "registries",
	.summary = "remove stored credentials for a registry",
	.usage = "HOST...",
	.examples = examples,
	.options = options,
	.flags = VERB_REGISTRIES,
	.least = 0,
	.most = -1,
	.run = run};
