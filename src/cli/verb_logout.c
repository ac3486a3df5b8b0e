/* logout: forget the credentials for a registry. */
#include <stdio.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

static int forget(struct invocation *call, const char *host)
{
	struct th_error err = {0};

	if (th_registry_logout(call->hull, host, &err))
		return say_error(&err);
	if (!call->quiet)
		printf("removed the login for %s\n", host);
	return EXIT_DONE;
}

static int forget_all(struct invocation *call)
{
	struct th_error err = {0};
	json_t *about = NULL;
	const json_t *logins;
	int code = EXIT_DONE;

	if (th_hull_about(call->hull, &about, &err))
		return say_error(&err);
	logins = doc_part(about, "logins");
	for (size_t i = 0; i < json_array_size(logins); i++) {
		int one = forget(call, doc_item(logins, i));

		code = code ? code : one;
	}
	json_decref(about);
	return code;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (option_given(call, "all"))
		return forget_all(call);
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
	"tidyhull logout registry.selwick.example",
	"tidyhull logout localhost:5000", NULL};

const struct verb verb_logout = {.name = "logout",
	.group = "registries",
	.called = "logoff signout",
	.summary = "remove stored credentials for a registry",
	.usage = "HOST...",
	.examples = examples,
	.options = options,
	.flags = VERB_REGISTRIES,
	.least = 0,
	.most = -1,
	.run = run};
