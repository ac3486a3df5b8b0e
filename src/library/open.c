/* Opening and closing, and what all calls share. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "base/json.h"
#include "library/library.h"

/* A hull of the library owns what its options point to. */
struct owned {
	struct th_hull hull; /* first: what callers have */
	struct th_strings texts;
	struct th_opening opening;
	atomic_bool cancelled;
	char *actor;
};

static struct owned *owner_of(th_hull *hull)
{
	return (struct owned *)(void *)hull;
}

static void show_progress(
	void *owner, const struct th_layer_progress *layers, size_t count)
{
	const struct owned *owned = owner;
	uint64_t done = 0, total = 0;

	for (size_t i = 0; i < count; i++) {
		done += layers[i].done_bytes;
		total += layers[i].size_bytes;
	}
	owned->opening.progress(owned->opening.owner, done, total);
}

static char *program(const struct th_opening *opening, const char *name)
{
	return th_format("%s/%s",
		opening->programs ? opening->programs : TH_LIBEXECDIR, name);
}

/* NULL stays NULL. -1 without memory. */
static int keep(struct owned *owned, const char *text, const char **kept)
{
	*kept = NULL;
	if (!text)
		return 0;
	if (th_strings_add(&owned->texts, text))
		return -1;
	*kept = owned->texts.items[owned->texts.count - 1];
	return 0;
}

static int set_options(struct owned *owned, struct th_hull_options *options)
{
	const struct th_opening *opening = &owned->opening;
	char *keeper = program(opening, "tidyhull-keeper");
	char *pilot = program(opening, "tidyhull-pilot");
	const char *actor = NULL;
	int purposes = opening->purposes;
	int rc = keep(owned, opening->root, &options->root) |
		keep(owned, opening->config, &options->config) |
		keep(owned, keeper, &options->keeper) |
		keep(owned, pilot, &options->pilot) |
		keep(owned, opening->actor ? opening->actor : "libtidyhull",
			&actor);

	free(keeper);
	free(pilot);
	if (rc || !options->keeper || !options->pilot)
		return -1;
	owned->actor = (char *)(uintptr_t)actor;
	options->env = opening->env;
	options->notice = opening->notice;
	options->owner = opening->owner;
	options->cancel = &owned->cancelled;
	options->umask = 022;
	options->logins = purposes & TH_TO_FETCH;
	options->look = purposes == TH_TO_LOOK;
	options->networks = purposes & TH_TO_START ? TH_NEEDS_NETWORKS
						   : TH_NEEDS_NO_NETWORKS;
	return 0;
}

/* Who is not there cannot be asked which of several registries is meant. */
static int refuse_choice(void *owner, const struct th_reference *ref,
	const struct th_strings *hosts, size_t *choice, struct th_error *err)
{
	(void)owner;
	(void)ref;
	(void)choice;
	return th_fail(err, TH_USAGE,
		"%zu registries have an image of that name: give the host of "
		"one, such as %s",
		hosts->count, hosts->count ? hosts->items[0] : "");
}

th_hull *th_hull_open(const struct th_opening *opening, th_error *error)
{
	struct owned *owned = calloc(1, sizeof(*owned));
	struct th_hull_options options = {0};
	struct th_error own = {0}, *err = error ? error : &own;
	struct th_context *context;

	if (!owned) {
		th_fail_memory(err);
		return NULL;
	}
	if (opening)
		owned->opening = *opening;
	if (set_options(owned, &options)) {
		th_fail_memory(err);
		goto fail;
	}
	if (th_hull_begin(&owned->hull, &options, err) ||
		th_hull_open_store(&owned->hull, owned->actor, err))
		goto fail;
	context = &owned->hull.context;
	context->choose = refuse_choice;
	context->owner = owned;
	if (owned->opening.progress)
		context->progress = show_progress;
	return &owned->hull;
fail:
	th_hull_close(&owned->hull);
	return NULL;
}

void th_hull_close(th_hull *hull)
{
	struct owned *owned = owner_of(hull);

	if (!hull)
		return;
	th_hull_end(hull);
	th_strings_release(&owned->texts);
	free(owned);
}

void th_hull_cancel(th_hull *hull)
{
	atomic_store(&owner_of(hull)->cancelled, true);
}

const char *th_hull_root(const th_hull *hull)
{
	return hull->root;
}

void th_hull_free(char *text)
{
	free(text);
}

const char *th_hull_version(void)
{
	return TH_VERSION;
}

/* ---- errors ---- */

th_error *th_error_new(void)
{
	return calloc(1, sizeof(struct th_error));
}

void th_error_free(th_error *error)
{
	free(error);
}

enum th_code th_error_code(const th_error *error)
{
	return error ? error->code : TH_OK;
}

const char *th_error_message(const th_error *error)
{
	return error ? error->msg : "";
}

const char *th_error_hint(const th_error *error)
{
	return error ? error->hint : "";
}

/* ---- what the parts share ---- */

void library_begin(char **json)
{
	if (json)
		*json = NULL;
}

int library_give(json_t *doc, char **json, struct th_error *err)
{
	char *text = json ? th_json_text(doc, JSON_COMPACT) : NULL;
	bool failed = !doc || (json && !text);

	json_decref(doc);
	if (json)
		*json = text;
	return failed ? th_fail_memory(err) : 0;
}

int library_give_list(
	const char *name, json_t *list, char **json, struct th_error *err)
{
	return library_give(json_pack("{s:o}", name, list), json, err);
}

int library_container(th_hull *hull, const char *name,
	struct th_container_row *row, struct th_error *err)
{
	struct th_object object;

	if (th_object_find(
		    &hull->context, name, TH_KIND_CONTAINER, &object, err))
		return -1;
	*row = object.container;
	th_object_release(&object);
	return 0;
}

int library_problems(struct th_problems *problems, struct th_error *err)
{
	struct th_buf text;

	th_buf_init(&text, sizeof(err->msg));
	for (size_t i = 0; i < problems->count; i++)
		th_buf_addf(
			&text, "%s%s", i ? "\n" : "", problems->list[i].msg);
	th_fail(err, problems->count ? problems->list[0].code : TH_FAILED, "%s",
		text.data);
	if (problems->count == 1 && problems->list[0].hint[0])
		th_hint(err, "%s", problems->list[0].hint);
	th_buf_release(&text);
	th_problems_release(problems);
	return -1;
}
