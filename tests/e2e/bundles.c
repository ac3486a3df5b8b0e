#include "e2e/bundles.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "e2e/harness.h"

char bundle_rootfs[300];

/* A bundle with busybox and nothing else. */
void bundle_make(void)
{
	other("mkdir -p %s/bundle/rootfs/bin", world_folder);
	other("cp /bin/busybox %s/bundle/rootfs/bin/", world_folder);
	other("%s/bundle/rootfs/bin/busybox --install -s "
	      "%s/bundle/rootfs/bin",
		world_folder, world_folder);
	snprintf(bundle_rootfs, sizeof(bundle_rootfs), "%s/bundle/rootfs",
		world_folder);
	/* Links are to the place inside. */
	other("sh -c 'cd %s/bin; for f in *; do [ $f = busybox ] || ln -sf "
	      "busybox $f; done'",
		bundle_rootfs);
}

static json_t *base(void)
{
	return json_pack(
		"{s:s s:{s:b s:{s:i s:i} s:[sss] s:[s] s:s s:{s:[ss] s:[ss] "
		"s:[ss]} s:b} s:{s:s} s:s s:[{s:s s:s s:s}{s:s s:s s:s}"
		"{s:s s:s s:s s:[sss]}] "
		"s:{s:[{s:s}{s:s}{s:s}{s:s}{s:s}{s:s}]}}",
		"ociVersion", "1.0.2", "process", "terminal", 0, "user", "uid",
		0, "gid", 0, "args", "sh", "-c", "true", "env", "PATH=/bin",
		"cwd", "/", "capabilities", "bounding", "CAP_CHOWN", "CAP_KILL",
		"effective", "CAP_CHOWN", "CAP_KILL", "permitted", "CAP_CHOWN",
		"CAP_KILL", "noNewPrivileges", 1, "root", "path", "rootfs",
		"hostname", "gauge", "mounts", "destination", "/proc", "type",
		"proc", "source", "proc", "destination", "/dev", "type",
		"tmpfs", "source", "dev", "destination", "/dev/pts", "type",
		"devpts", "source", "devpts", "options", "newinstance",
		"ptmxmode=0666", "mode=0620", "linux", "namespaces", "type",
		"pid", "type", "mount", "type", "ipc", "type", "uts", "type",
		"network", "type", "cgroup");
}

/* Members are set, objects gone into; "+NAME" appends to an array. */
static void merge(json_t *to, json_t *patch)
{
	const char *key;
	json_t *value;

	json_object_foreach(patch, key, value)
	{
		json_t *old = json_object_get(to, key);

		if (*key == '+') {
			old = json_object_get(to, key + 1);
			if (!old) {
				old = json_array();
				json_object_set_new(to, key + 1, old);
			}
			json_array_extend(old, value);
		} else if (json_is_object(old) && json_is_object(value)) {
			merge(old, value);
		} else {
			json_object_set(to, key, value);
		}
	}
}

/* Puts a word into the place of each mark. */
static void fill_in(char text[4000], char mark, const char *word)
{
	for (char *at = strchr(text, mark); at; at = strchr(at, mark)) {
		char rest[4000];

		snprintf(rest, sizeof(rest), "%s", at + 1);
		snprintf(at, 4000 - (size_t)(at - text), "%s%s", word, rest);
		at += strlen(word);
	}
}

const char *bundle_tag(void)
{
	static char tag[32];
	const char *dash = strrchr(world_folder, '-');

	snprintf(tag, sizeof(tag), "selwick-%.6s", dash ? dash + 1 : "");
	return tag;
}

void bundle_write(const char *patch, const char *command)
{
	json_error_t jerr;
	json_t *doc = base(), *change = NULL;
	char text[4000];
	char *dump;

	snprintf(text, sizeof(text), "%s", patch);
	fill_in(text, '@', world_folder);
	fill_in(text, '~', bundle_tag());
	change = json_loads(*text ? text : "{}", 0, &jerr);
	if (!change)
		printf("\n    %s: %s\n", text, jerr.text);
	CHECK(change != NULL);
	json_array_set_new(
		json_object_get(json_object_get(doc, "process"), "args"), 2,
		json_string(command));
	if (change)
		merge(doc, change);
	dump = json_dumps(doc, JSON_INDENT(1));
	put_file("bundle/config.json", dump);
	free(dump);
	json_decref(change);
	json_decref(doc);
}
