/* Credentials that a person has given for registries: a file that only its
 * owner can read (docs/formats.md). */
#ifndef TH_REGISTRY_LOGINS_H
#define TH_REGISTRY_LOGINS_H

#include <stddef.h>

#include "base/error.h"

struct th_login {
	char *host; /* with the port; all owned */
	char *user;
	char *password;
};

struct th_logins {
	struct th_login *list; /* owned */
	size_t count;
};

/* Reads the file; one that is not there holds nothing. A file that others can
 * read is refused. */
int th_logins_read(
	const char *path, struct th_logins *logins, struct th_error *err);
void th_logins_release(struct th_logins *logins);
/* That of a host, or NULL. */
const struct th_login *th_logins_find(
	const struct th_logins *logins, const char *host);

/* Writes the login into the file, in place of one for the same host. The
 * folders above are made. */
int th_logins_keep(const char *path, const char *host, const char *user,
	const char *password, struct th_error *err);
/* Takes the host's out of the file: 1, 0 where there is none, -1. */
int th_logins_forget(const char *path, const char *host, struct th_error *err);

#endif
