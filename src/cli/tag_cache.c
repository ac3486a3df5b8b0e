#include "cli/tag_cache.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "cli/doc.h"

/* Somebody waits for the word that is being typed. */
#define PATIENCE_S 2
#define FRESH_US (10 * 60 * 1000000LL)
#define REPOSITORIES_MAX 200
#define FILE_BYTES (4u << 20)

/* The file, whose folder is made; false where there is no place for it. */
static bool find_file(char path[512])
{
	const char *cache = getenv("XDG_CACHE_HOME");
	const char *home = getenv("HOME");
	char folder[480];

	if (cache && cache[0] == '/')
		snprintf(folder, sizeof(folder), "%.400s", cache);
	else if (home && home[0] == '/')
		snprintf(folder, sizeof(folder), "%.400s/.cache", home);
	else
		return false;
	if (mkdir(folder, 0700) && errno != EEXIST)
		return false;
	strncat(folder, "/tidyhull", sizeof(folder) - strlen(folder) - 1);
	if (mkdir(folder, 0700) && errno != EEXIST)
		return false;
	snprintf(path, 512, "%s/tags.json", folder);
	return true;
}

/* All that is kept; a new reference. Whatever is wrong with it, it is anew. */
static json_t *read_all(const char *path)
{
	struct th_error ignored = {0}; /* then nothing is kept */
	json_t *all = NULL;
	struct th_buf text;

	th_buf_init(&text, FILE_BYTES);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1)
		all = json_loadb(text.data, text.len, 0, NULL);
	th_buf_release(&text);
	if (json_is_object(all) && json_object_size(all) < REPOSITORIES_MAX)
		return all;
	json_decref(all);
	return json_object();
}

static void keep(
	const char *path, json_t *all, const char *repository, json_t *tags)
{
	struct th_error ignored = {0}; /* it is asked for again */
	char *text;

	json_object_set_new(all, repository,
		json_pack("{s:I s:O}", "time-us", (json_int_t)th_clock_now_us(),
			"tags", tags));
	text = json_dumps(all, JSON_COMPACT);
	if (text)
		th_file_replace(AT_FDCWD, path, text, strlen(text), 0600, false,
			&ignored);
	free(text);
}

json_t *tag_cache_get(struct invocation *call, const char *repository)
{
	struct th_error ignored = {0}; /* then the old ones are offered */
	json_t *all, *doc = NULL, *tags = NULL;
	const json_t *kept;
	char path[512];
	bool has_place = find_file(path);
	int64_t age_us;

	all = has_place ? read_all(path) : json_object();
	kept = json_object_get(all, repository);
	age_us = th_clock_now_us() - doc_number(kept, "time-us");
	if (kept && age_us >= 0 && age_us < FRESH_US)
		tags = json_incref(doc_part(kept, "tags"));
	if (!tags) {
		fflush(stdout);
		signal(SIGALRM, SIG_DFL);
		alarm(PATIENCE_S);
		if (th_registry_list_tags(
			    call->hull, repository, &doc, &ignored) == 0) {
			tags = json_incref(doc_part(doc, "tags"));
			if (has_place)
				keep(path, all, repository, tags);
		}
		alarm(0);
	}
	if (!tags)
		tags = json_incref(doc_part(kept, "tags"));
	json_decref(doc);
	json_decref(all);
	return tags;
}
