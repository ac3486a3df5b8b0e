#include "image/locate.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "oci/manifest.h"
#include "store/container_state.h"
#include "store/image_state.h"
#include "store/near.h"

struct question {
	const struct th_registry_options *options;
	const struct th_reference *ref;
	const char *host;
	pthread_t thread;
	bool asked;
	struct th_error err; /* empty: it has the image */
};

static void *ask_one(void *owner)
{
	struct question *question = owner;
	char digest[TH_DIGEST_TEXT], type[128];
	struct th_registry *registry;
	struct th_buf body;

	th_buf_init(&body, TH_MANIFEST_MAX);
	registry = th_registry_new(
		question->options, question->host, &question->err);
	if (registry)
		th_registry_manifest(registry, question->ref->path,
			th_reference_wanted(question->ref), &body, digest, type,
			&question->err);
	th_registry_free(registry);
	th_buf_release(&body);
	return NULL;
}

static void ask_all(struct question *questions, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		questions[i].asked = pthread_create(&questions[i].thread, NULL,
					     ask_one, &questions[i]) == 0;
		if (!questions[i].asked)
			ask_one(&questions[i]);
	}
	for (size_t i = 0; i < count; i++) {
		if (questions[i].asked)
			pthread_join(questions[i].thread, NULL);
	}
}

/* The hosts of local images with that path and tag. */
static int look_here(struct th_store *store, const struct th_reference *ref,
	struct th_strings *hosts, struct th_error *err)
{
	char name[TH_REFERENCE_MAX + 256];
	struct th_image_row *rows = NULL;
	size_t count = 0;
	int rc = 0;

	if (!store || ref->digest[0])
		return 0;
	th_reference_format(ref, name);
	if (th_image_state_find(store, name, &rows, &count, err))
		return -1;
	for (size_t i = 0; i < count; i++) {
		for (size_t j = 0; j < rows[i].tags.count; j++) {
			struct th_reference tag;
			struct th_error ignored = {0}; /* then it is not */

			if (th_reference_parse(rows[i].tags.items[j], &tag,
				    &ignored) == 0 &&
				tag.host[0] &&
				strcmp(tag.path, ref->path) == 0 &&
				strcmp(tag.tag, ref->tag) == 0)
				rc |= th_strings_add(hosts, tag.host);
		}
	}
	th_image_rows_free(rows, count);
	return rc ? th_fail_memory(err) : 0;
}

static bool is_here(struct th_store *store, const struct th_reference *ref)
{
	struct th_error ignored = {0}; /* a hint only */
	struct th_image_row *rows = NULL;
	char name[TH_REFERENCE_MAX + 256];
	size_t count = 0;

	th_reference_format(ref, name);
	if (th_image_state_find(store, name, &rows, &count, &ignored) == 0)
		th_image_rows_free(rows, count);
	th_error_clear(&ignored);
	return count > 0;
}

/* A container's name, a file's, or one that is nearly that of an image. */
static void hint_meant(struct th_store *store, const struct th_reference *ref,
	struct th_error *err)
{
	struct th_container_row row;
	struct th_error ignored = {0}; /* a hint only */
	char near[TH_NEAR_NAME];

	size_t len = strlen(ref->path);

	if (len > 5 &&
		(strcmp(ref->path + len - 5, ".yaml") == 0 ||
			strcmp(ref->path + len - 4, ".yml") == 0))
		th_hint(err,
			"a file of settings is an option: --settings %.200s",
			ref->path);
	if (access(ref->path, R_OK) == 0)
		th_hint(err, "if the file is meant: ./%.200s", ref->path);
	if (!store)
		return;
	if (is_here(store, ref))
		th_hint(err, "it is here: tidyhull show %.200s", ref->path);
	if (th_state_get_named(store->db, ref->path, &row, &ignored) == 1)
		th_hint(err,
			"%s is a container: tidyhull start %s, or exec, show, "
			"logs; tidyhull list images shows images",
			row.name, row.name);
	if (th_near_image(store, ref->path, near))
		th_hint(err,
			"did you mean %s? tidyhull list images shows those "
			"that are here",
			near);
}

static int nowhere(struct th_store *store, const struct th_reference *ref,
	const char *asked, struct th_error *err)
{
	th_fail(err, TH_NOT_FOUND, "no registry has %s%s%s (searched: %s)",
		ref->path, ref->tag[0] ? ":" : "", ref->tag,
		asked[0] ? asked : "none");
	hint_meant(store, ref, err);
	if (!store && !asked[0])
		return th_hint(err,
			"no registry has \"search: true\" in the "
			"configuration; "
			"what is here: tidyhull list images");
	return th_hint(err,
		asked[0] ? "to search for it: tidyhull find %s"
			 : "give the registry's host (registry.example/%s), or "
			   "mark a registry with \"search: true\" in the "
			   "configuration",
		ref->path);
}

static int take_answers(struct th_store *store, const struct th_reference *ref,
	const struct question *questions, size_t count,
	struct th_strings *hosts, struct th_strings *notes,
	struct th_error *err)
{
	const struct th_error *trouble = NULL;
	char asked[300] = "";
	int rc = 0;

	for (size_t i = 0; i < count; i++) {
		const struct question *one = &questions[i];
		size_t used = strlen(asked);

		snprintf(asked + used, sizeof(asked) - used, "%s%s",
			used ? ", " : "", one->host);
		if (!one->err.code) {
			rc |= th_strings_add(hosts, one->host);
		} else if (one->err.code != TH_NOT_FOUND) {
			rc |= th_strings_take(notes,
				th_format("skipped %s: %s", one->host,
					one->err.msg));
			trouble = trouble ? trouble : &one->err;
		}
	}
	if (rc)
		return th_fail_memory(err);
	if (hosts->count)
		return 0;
	if (!trouble)
		return nowhere(store, ref, asked, err);
	*err = *trouble;
	return -1;
}

int th_locate(struct th_store *store, const struct th_registry_options *options,
	const struct th_reference *ref, struct th_strings *hosts,
	struct th_strings *notes, struct th_error *err)
{
	const struct th_config *config = options->config;
	struct question *questions;
	size_t count = 0;
	int rc;

	if (ref->host[0])
		return th_strings_add(hosts, ref->host) ? th_fail_memory(err)
							: 0;
	if (look_here(store, ref, hosts, err))
		return -1;
	if (hosts->count)
		return 0;
	questions = calloc(config->registry_count + 1, sizeof(*questions));
	if (!questions)
		return th_fail_memory(err);
	for (size_t i = 0; i < config->registry_count; i++) {
		if (!config->registries[i].search)
			continue;
		questions[count].options = options;
		questions[count].ref = ref;
		questions[count++].host = config->registries[i].host;
	}
	ask_all(questions, count);
	rc = take_answers(store, ref, questions, count, hosts, notes, err);
	free(questions);
	return rc;
}
