#include "registry/search.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "base/distance.h"

/* Tags are asked for so many repositories of a registry; the rest of what is
 * found is told without. */
#define TAGGED_MAX 50

struct asking {
	const struct th_registry_options *options;
	const char *host;
	const char *term;
	pthread_t thread;
	bool threaded;
	struct th_found *list;
	size_t count;
	struct th_error err;
};

int th_search_rank(const char *path, const char *term)
{
	const char *last = strrchr(path, '/');
	size_t len = strlen(term);
	int allowed = len >= 8 ? 2 : len >= 4 ? 1 : 0;

	last = last ? last + 1 : path;
	if (strcasecmp(path, term) == 0 || strcasecmp(last, term) == 0)
		return 0;
	if (strncasecmp(last, term, len) == 0)
		return 1;
	if (strcasestr(path, term))
		return 2;
	/* A mistyped term: compared with the whole, and with each part. */
	if (allowed && th_distance(path, term) <= allowed)
		return 3;
	while (allowed && *path) {
		char part[64];
		size_t part_len = strcspn(path, "/");

		snprintf(part, sizeof(part), "%.*s", (int)part_len, path);
		if (part_len < sizeof(part) &&
			th_distance(part, term) <= allowed)
			return 3;
		path += part_len + (path[part_len] == '/');
	}
	return -1;
}

static int add(struct asking *asking, const char *path, int rank)
{
	struct th_found *list =
		realloc(asking->list, (asking->count + 1) * sizeof(*list));

	if (!list)
		return th_fail_memory(&asking->err);
	asking->list = list;
	memset(&list[asking->count], 0, sizeof(*list));
	snprintf(list[asking->count].host, sizeof(list->host), "%s",
		asking->host);
	snprintf(list[asking->count].path, sizeof(list->path), "%.255s", path);
	list[asking->count++].rank = rank;
	return 0;
}

static int compare(const void *a, const void *b)
{
	const struct th_found *one = a, *two = b;

	if (one->rank != two->rank)
		return one->rank - two->rank;
	return strcmp(one->path, two->path) ? strcmp(one->path, two->path)
					    : strcmp(one->host, two->host);
}

static void take_names(struct asking *asking, const struct th_strings *names)
{
	for (size_t i = 0; i < names->count; i++) {
		int rank = th_search_rank(names->items[i], asking->term);

		if (rank >= 0 && add(asking, names->items[i], rank))
			return;
	}
	if (asking->count)
		qsort(asking->list, asking->count, sizeof(*asking->list),
			compare);
}

static void take_tags(struct asking *asking, struct th_registry *registry)
{
	for (size_t i = 0; i < asking->count && i < TAGGED_MAX; i++) {
		struct th_error one = {0};

		th_registry_tags(registry, asking->list[i].path,
			&asking->list[i].tags, &one);
	}
}

/* Not every registry lists what it has; but whether it has the very name that
 * was given can always be asked. */
static void try_exactly(struct asking *asking, struct th_registry *registry)
{
	struct th_strings tags = {0};
	struct th_reference ref;
	struct th_error one = {0};

	if (th_reference_parse(asking->term, &ref, &one) == 0 &&
		th_registry_tags(registry, ref.path, &tags, &one) == 0 &&
		add(asking, ref.path, 0) == 0) {
		asking->list[0].tags = tags;
		memset(&tags, 0, sizeof(tags));
		th_error_clear(&asking->err);
	}
	th_strings_release(&tags);
}

static void *ask_one(void *owner)
{
	struct asking *asking = owner;
	struct th_registry *registry =
		th_registry_new(asking->options, asking->host, &asking->err);
	struct th_strings names = {0};

	if (!registry)
		return NULL;
	if (th_registry_catalogue(registry, &names, &asking->err) == 0) {
		take_names(asking, &names);
		take_tags(asking, registry);
	} else if (asking->err.code == TH_NOT_FOUND) {
		th_error_clear(&asking->err);
		th_fail(&asking->err, TH_NOT_FOUND,
			"it does not list its images; only exact names can be "
			"looked up");
		try_exactly(asking, registry);
	}
	th_strings_release(&names);
	th_registry_free(registry);
	return NULL;
}

static void ask_all(struct asking *asking, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		asking[i].threaded = pthread_create(&asking[i].thread, NULL,
					     ask_one, &asking[i]) == 0;
		if (!asking[i].threaded)
			ask_one(&asking[i]);
	}
	for (size_t i = 0; i < count; i++) {
		if (asking[i].threaded)
			pthread_join(asking[i].thread, NULL);
	}
}

static int merge(struct asking *asking, size_t hosts, struct th_found **list,
	size_t *count, struct th_strings *notes, struct th_error *err)
{
	size_t total = 0, used = 0;
	int rc = 0;

	for (size_t i = 0; i < hosts; i++)
		total += asking[i].count;
	*list = calloc(total + 1, sizeof(**list));
	if (!*list)
		rc = th_fail_memory(err);
	for (size_t i = 0; i < hosts; i++) {
		if (*list && asking[i].count)
			memcpy(*list + used, asking[i].list,
				asking[i].count * sizeof(**list));
		else if (!*list)
			th_found_free(asking[i].list, asking[i].count);
		if (*list)
			free(asking[i].list);
		used += asking[i].count;
		if (asking[i].err.code && rc == 0 &&
			th_strings_take(notes,
				th_format("%s: %s", asking[i].host,
					asking[i].err.msg)))
			rc = th_fail_memory(err);
	}
	if (*list && used)
		qsort(*list, used, sizeof(**list), compare);
	*count = *list ? used : 0;
	return rc;
}

int th_search(const struct th_registry_options *options, const char *term,
	struct th_found **list, size_t *count, struct th_strings *notes,
	struct th_error *err)
{
	const struct th_config *config = options->config;
	struct th_reference ref;
	struct th_error ignored = {0}; /* then it is a word */
	struct asking *asking;
	size_t hosts = 0;
	int rc;

	*list = NULL;
	*count = 0;
	asking = calloc(config->registry_count + 1, sizeof(*asking));
	if (!asking)
		return th_fail_memory(err);
	if (th_reference_parse(term, &ref, &ignored))
		memset(&ref, 0, sizeof(ref));
	for (size_t i = 0; i < config->registry_count; i++) {
		if (!ref.host[0])
			asking[hosts++].host = config->registries[i].host;
	}
	if (ref.host[0])
		asking[hosts++].host = ref.host;
	for (size_t i = 0; i < hosts; i++) {
		asking[i].options = options;
		/* A tag says nothing about the name. */
		asking[i].term = ref.path[0] ? ref.path : term;
	}
	ask_all(asking, hosts);
	rc = merge(asking, hosts, list, count, notes, err);
	free(asking);
	return rc;
}

void th_found_free(struct th_found *list, size_t count)
{
	for (size_t i = 0; i < count; i++)
		th_strings_release(&list[i].tags);
	free(list);
}
