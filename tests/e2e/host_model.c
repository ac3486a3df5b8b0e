#include "e2e/host_model.h"

#include <fcntl.h>
#include <ftw.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "e2e/harness.h"

#define MODEL_MAX (16u << 20)
#define SETTINGS "/proc/sys/net"

static struct th_strings before;
static struct th_strings *into;

/* The output's lines, each with what it is before it. */
static void add_lines(
	struct th_strings *model, const char *kind, const char *text)
{
	for (const char *at = text; *at;) {
		int len = (int)strcspn(at, "\n");

		th_strings_take(model, th_format("%s: %.*s", kind, len, at));
		at += len + (at[len] == '\n');
	}
}

/* Counters are no settings. */
static bool counts(const char *path)
{
	return strstr(path, "nf_conntrack_count") != NULL;
}

static int add_setting(const char *path, const struct stat *st, int kind)
{
	char text[4096];
	ssize_t len;
	int fd;

	(void)st;
	if (kind != FTW_F || counts(path))
		return 0;
	fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	len = fd < 0 ? -1 : read(fd, text, sizeof(text) - 1);
	th_close(&fd);
	if (len < 0)
		return 0;
	text[len] = '\0';
	text[strcspn(text, "\n")] = '\0';
	th_strings_take(into, th_format("setting: %s = %s", path, text));
	return 0;
}

static void take(struct th_strings *model)
{
	struct th_error err = {0};
	struct th_buf mounts;

	add_lines(model, "device", as_root("ip -o link show")->out);
	add_lines(model, "address", as_root("ip -o address show")->out);
	add_lines(model, "route", as_root("ip route show table all")->out);
	add_lines(model, "route", as_root("ip -6 route show table all")->out);
	add_lines(model, "policy", as_root("ip rule show")->out);
	add_lines(model, "rule", as_root("nft list ruleset")->out);
	th_buf_init(&mounts, MODEL_MAX);
	if (th_file_read(AT_FDCWD, "/proc/self/mounts", &mounts, &err) == 1)
		add_lines(model, "mount", mounts.data);
	th_buf_release(&mounts);
	into = model;
	ftw(SETTINGS, add_setting, 16);
}

static bool holds(const struct th_strings *model, const char *line)
{
	for (size_t i = 0; i < model->count; i++) {
		if (strcmp(model->items[i], line) == 0)
			return true;
	}
	return false;
}

/* A module that was loaded on the way brings settings of its own. */
static bool is_new_setting(const char *line)
{
	size_t len = strcspn(line, "=");

	if (strncmp(line, "setting:", 8) != 0)
		return false;
	for (size_t i = 0; i < before.count; i++) {
		if (strncmp(before.items[i], line, len) == 0)
			return false;
	}
	return true;
}

void host_model_take(void)
{
	th_strings_release(&before);
	take(&before);
}

int host_model_compare(void)
{
	struct th_strings now = {0};
	int different = 0;

	take(&now);
	for (size_t i = 0; i < before.count; i++) {
		if (!holds(&now, before.items[i])) {
			printf("the host was: %s\n", before.items[i]);
			different++;
		}
	}
	for (size_t i = 0; i < now.count; i++) {
		if (!holds(&before, now.items[i]) &&
			!is_new_setting(now.items[i])) {
			printf("the host is:  %s\n", now.items[i]);
			different++;
		}
	}
	if (!different)
		printf("host: %zu things are as they were before the tests\n",
			before.count);
	th_strings_release(&now);
	th_strings_release(&before);
	return different;
}
