#include "container/user.h"

#include <ctype.h>
#include <stdbool.h>
#include <stdint.h>
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

/* A user or group ID: digits alone, and not the largest number, which means
 * "leave it as it is" to the kernel: whoever got it would stay root. */
static bool read_id(const char *text, uint32_t *id)
{
	unsigned long value;
	char *end;

	if (!isdigit((unsigned char)*text))
		return false;
	value = strtoul(text, &end, 10);
	if (*end || value >= UINT32_MAX)
		return false;
	*id = (uint32_t)value;
	return true;
}

static bool find_user(const char *text, const char *passwd,
	struct th_user *user, char name[128])
{
	uint32_t wanted = 0, uid, gid;
	bool numeric = read_id(text, &wanted);
	char line[1024], *fields[6];

	while (next_line(&passwd, line, sizeof(line))) {
		/* A line with an impossible number is none. */
		if (!split(line, fields, 6) || !read_id(fields[2], &uid) ||
			!read_id(fields[3], &gid))
			continue;
		if (numeric ? uid != wanted : strcmp(fields[0], text) != 0)
			continue;
		user->uid = uid;
		user->gid = gid;
		snprintf(user->home, sizeof(user->home), "%s", fields[5]);
		snprintf(name, 128, "%s", fields[0]);
		return true;
	}
	if (numeric)
		user->uid = wanted;
	return numeric;
}

static bool find_group(const char *text, const char *group, gid_t *gid)
{
	uint32_t id;
	char line[4096], *fields[3];

	if (read_id(text, &id)) {
		*gid = id;
		return true;
	}
	while (next_line(&group, line, sizeof(line))) {
		if (split(line, fields, 3) && strcmp(fields[0], text) == 0 &&
			read_id(fields[2], &id)) {
			*gid = id;
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
		uint32_t id;

		rest = NULL;
		if (!split(line, fields, 4) || !read_id(fields[2], &id))
			continue;
		for (char *member = strtok_r(fields[3], ",", &rest); member;
			member = strtok_r(NULL, ",", &rest)) {
			if (strcmp(member, name) == 0 && user->group_count < 64)
				user->groups[user->group_count++] = id;
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
		th_fail(err, TH_NOT_FOUND,
			"the image does not have a user \"%.60s\"", part);
		return th_hint(err, "numbers always work");
	}
	if (user->uid == 0 && strcmp(user->home, "/") == 0)
		snprintf(user->home, sizeof(user->home), "/root");
	if (colon && !find_group(colon, group, &user->gid))
		return th_fail(err, TH_NOT_FOUND,
			"the image does not have a group \"%.60s\"", colon);
	if (!colon && name[0])
		find_memberships(name, group, user);
	return 0;
}
