/* login: credentials for a registry, checked before they are kept. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/secret.h"
#include "cli/verbs.h"

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

/* Before anything is asked. */
static int check_password(const char *given, struct th_error *err)
{
	if (!given || strncmp(given, "@file:", 6) == 0 ||
		strcmp(given, "@stdin") == 0)
		return 0;
	th_fail(err, TH_USAGE,
		"refusing a password on the command line, where others can "
		"read it");
	return th_hint(err,
		"use --password @stdin or --password @file:PATH, or leave it "
		"out to be asked");
}

static char *read_password(const char *given, struct th_error *err)
{
	char *password;

	if (given && strncmp(given, "@file:", 6) == 0)
		return secret_read(given + 6, err);
	if (given && strcmp(given, "@stdin") == 0)
		return secret_read(NULL, err);
	password = secret_ask("password", err);
	if (!password)
		th_hint(err, "use --password @stdin or --password @file:PATH");
	return password;
}

static void tell(const struct invocation *call, const char *user, bool verified)
{
	if (call->quiet)
		return;
	if (verified)
		printf("logged in to %s as %s\n", call->objects[0], user);
	else
		printf("stored the login of %s for %s; not verified, as the "
		       "registry does not require a login\n",
			user, call->objects[0]);
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	char *user = NULL, *password = NULL;
	json_t *login = NULL;

	if (th_registry_check(call->objects[0], &err) == 0 &&
		check_password(option_value(call, "password"), &err) == 0)
		user = read_user(option_value(call, "user"), &err);
	if (user)
		password = read_password(option_value(call, "password"), &err);
	if (password &&
		th_registry_login(call->hull, call->objects[0], user, password,
			&login, &err) == 0)
		tell(call, user, doc_flag(login, "verified"));
	if (password)
		explicit_bzero(password, strlen(password));
	json_decref(login);
	free(password);
	free(user);
	/* "login me --user registry.example" */
	if (err.code == TH_USAGE && option_value(call, "user") &&
		!strpbrk(call->objects[0], ".:") &&
		strchr(option_value(call, "user"), '.')) {
		err.hint[0] = '\0';
		th_hint(&err, "it is: tidyhull login %.120s --user %.60s",
			option_value(call, "user"), call->objects[0]);
	}
	return err.code ? say_error(&err) : EXIT_DONE;
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
	.called = "auth authenticate logon signin",
	.summary = "store credentials for a registry",
	.usage = "HOST",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_REGISTRIES,
	.least = 1,
	.most = 1,
	.run = run};
