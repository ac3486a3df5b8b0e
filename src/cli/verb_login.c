/* login: credentials for a registry, checked before they are kept. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/secret.h"
#include "cli/verbs.h"
#include "registry/client.h"

/* The user's name, asked for where it was not given. */
static char *read_user(const char *given, struct th_error *err)
{
	char *line = NULL;
	size_t size = 0;
	ssize_t len;

	if (given)
		return strdup(given);
	if (!isatty(0) || !on_terminal()) {
		th_fail(err, TH_USAGE, "no user given");
		th_hint(err, "add --user NAME");
		return NULL;
	}
	fputs("user: ", stderr);
	len = getline(&line, &size, stdin);
	if (len > 0)
		line[strcspn(line, "\n")] = '\0';
	if (len <= 0 || !*line) {
		free(line);
		th_fail(err, TH_USAGE, "no user was entered");
		return NULL;
	}
	return line;
}

static char *read_password(const char *given, struct th_error *err)
{
	char *password;

	if (given && strncmp(given, "@file:", 6) == 0)
		return secret_read(given + 6, err);
	if (given && strcmp(given, "@stdin") == 0)
		return secret_read(NULL, err);
	if (given) {
		th_fail(err, TH_USAGE,
			"refusing a password on the command line, where others "
			"can read it");
		th_hint(err,
			"use --password @stdin or --password @file:PATH, or "
			"leave it out to be asked");
		return NULL;
	}
	password = secret_ask("password", err);
	if (!password)
		th_hint(err, "use --password @stdin or --password @file:PATH");
	return password;
}

/* Asks the registry with this login. 1 where it looked at it, 0 where it lets
 * everybody in, -1. */
static int check(struct invocation *call, const char *host, char *user,
	char *password, struct th_error *err)
{
	struct th_login login = {.host = (char *)(uintptr_t)host,
		.user = user,
		.password = password};
	struct th_logins logins = {&login, 1};
	struct th_registry_options options = call->hull.registries;
	struct th_registry *registry;
	int rc = -1;

	options.access = th_access_new(&logins);
	if (!options.access)
		return th_fail_memory(err);
	registry = th_registry_new(&options, host, err);
	if (registry && th_registry_greet(registry, err) == 0)
		rc = th_access_knows(options.access, host, "");
	th_registry_free(registry);
	th_access_free(options.access);
	return rc;
}

static int run(struct invocation *call)
{
	const char *host = call->objects[0];
	struct th_error err = {0};
	char *user = NULL, *password = NULL;
	int checked = -1;

	if (th_host_check(host, &err))
		return say_error(&err);
	user = read_user(option_value(call, "user"), &err);
	if (user)
		password = read_password(option_value(call, "password"), &err);
	if (password)
		checked = check(call, host, user, password, &err);
	if (checked >= 0 &&
		th_logins_keep(
			call->hull.logins_path, host, user, password, &err))
		checked = -1;
	if (checked == 1 && !call->quiet)
		printf("logged in to %s as %s\n", host, user);
	else if (checked == 0 && !call->quiet)
		printf("stored the login of %s for %s; not verified, as the "
		       "registry does not require a login\n",
			user, host);
	if (password)
		explicit_bzero(password, strlen(password));
	free(password);
	free(user);
	return checked < 0 ? say_error(&err) : EXIT_DONE;
}

static const struct option_spec options[] = {
	{"user", "NAME", "the user name; asked for on a terminal"},
	{"password", "WHERE", "@stdin or @file:PATH; otherwise asked for"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"The credentials are verified with the "
				   "registry and then stored in a file",
	"that only you can read.", NULL};

static const char *const examples[] = {
	"tidyhull login registry.selwick.example",
	"tidyhull login registry.selwick.example --user pilot --password "
	"@stdin",
	NULL};

const struct verb verb_login = {.name = "login",
	.group = "registries",
	.summary = "store credentials for a registry",
	.usage = "HOST",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_REGISTRIES,
	.least = 1,
	.most = 1,
	.run = run};
