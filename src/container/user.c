#include "container/user.h"

#include <ctype.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* One line of passwd(5) or group(5), cut at the colons; false where it has
 * fewer fields than wanted. */
static bool split(char *line, char **fields, int wanted)
{
	for (int i = 0; i < wanted; i++) {
		fields[i] = line;
		line = strchr(line, ':');
		if (!line)
			return i == wanted - 1;
		*line++ = '\0';
	}
	return true;
}

/* The next line as a copy in buffer; NULL at the end. */
static char *next_line(const char **at, char *buffer, size_t size)
{
	size_t len = strcspn(*at, "\n");

	if (!**at)
		return NULL;
	snprintf(buffer, size, "%.*s", (int)len, *at);
	*at += len + ((*at)[len] == '\n');
	return buffer;
}

static bool is_number(const char *text, unsigned long *value)
{
	char *end;

	if (!isdigit((unsigned char)*text))
		return false;
	*value = strtoul(text, &end, 10);
	return !*end && *value < 0xffffffff;
}

static bool find_user(const char *text, const char *passwd,
	struct th_user *user, char name[128])
{
	unsigned long uid = 0;
	bool numeric = is_number(text, &uid);
	char line[1024], *fields[6];

	while (next_line(&passwd, line, sizeof(line))) {
		if (!split(line, fields, 6))
			continue;
		if (numeric ? strtoul(fields[2], NULL, 10) != uid
			    : strcmp(fields[0], text) != 0)
			continue;
		user->uid = (uid_t)strtoul(fields[2], NULL, 10);
		user->gid = (gid_t)strtoul(fields[3], NULL, 10);
		snprintf(user->home, sizeof(user->home), "%s", fields[5]);
		snprintf(name, 128, "%s", fields[0]);
		return true;
	}
	if (numeric)
		user->uid = (uid_t)uid;
	return numeric;
}

static bool find_group(const char *text, const char *group, gid_t *gid)
{
	unsigned long number;
	char line[4096], *fields[3];

	if (is_number(text, &number)) {
		*gid = (gid_t)number;
		return true;
	}
	while (next_line(&group, line, sizeof(line))) {
		if (split(line, fields, 3) && strcmp(fields[0], text) == 0) {
			*gid = (gid_t)strtoul(fields[2], NULL, 10);
			return true;
		}
	}
	return false;
}

/* The groups whose member lists name the user. */
static void find_memberships(
	const char *name, const char *group, struct th_user *user)
{
	char line[4096], *fields[4], *rest;

	while (next_line(&group, line, sizeof(line))) {
		rest = NULL;
		if (!split(line, fields, 4))
			continue;
		for (char *member = strtok_r(fields[3], ",", &rest); member;
			member = strtok_r(NULL, ",", &rest)) {
			if (strcmp(member, name) == 0 && user->group_count < 64)
				user->groups[user->group_count++] =
					(gid_t)strtoul(fields[2], NULL, 10);
		}
	}
}

int th_user_resolve(const char *text, const char *passwd, const char *group,
	struct th_user *user, struct th_error *err)
{
	char part[256], name[128] = "", *colon;

	memset(user, 0, sizeof(*user));
	snprintf(user->home, sizeof(user->home), "/");
	snprintf(part, sizeof(part), "%s", text && *text ? text : "0");
	colon = strchr(part, ':');
	if (colon)
		*colon++ = '\0';
	if (!find_user(part, passwd, user, name)) {
		th_fail(err, TH_NOT_FOUND, "the image knows no user \"%.60s\"",
			part);
		return th_hint(err, "a number works without being known");
	}
	if (user->uid == 0 && strcmp(user->home, "/") == 0)
		snprintf(user->home, sizeof(user->home), "/root");
	if (colon && !find_group(colon, group, &user->gid))
		return th_fail(err, TH_NOT_FOUND,
			"the image knows no group \"%.60s\"", colon);
	if (!colon && name[0])
		find_memberships(name, group, user);
	return 0;
}
