/* Opening and closing, and who it is opened for. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>

#include "base/json.h"
#include "base/file.h"
#include "container/ability.h"
#include "image/pull.h"
#include "library/images.h"
#include "sandbox/enter.h"

#define PARTS_MAX 400

/* A hull of the library owns what its options point to. */
struct owned {
	struct th_hull hull; /* first: what callers have */
	struct th_strings texts;
	struct th_opening opening;
	/* What children share. */
	struct shared {
		atomic_bool cancelled;
		_Atomic uint64_t done_bytes;
	} * shared;
	struct th_work work;
	const char *actor;
};

static struct owned *owner_of(th_hull *hull)
{
	return (struct owned *)(void *)hull;
}

/* ---- what whoever opens it is told and asked ---- */

static const char *phase_word(enum th_layer_phase phase)
{
	static const char *const words[] = {[TH_LAYER_WAITING] = "waiting",
		[TH_LAYER_HERE] = "here",
		[TH_LAYER_ELSEWHERE] = "elsewhere",
		[TH_LAYER_TRANSFER] = "downloading",
		[TH_LAYER_UNPACK] = "unpacking",
		[TH_LAYER_DONE] = "done",
		[TH_LAYER_THERE] = "there",
		[TH_LAYER_MOUNTED] = "mounted",
		[TH_LAYER_UPLOAD] = "uploading",
		[TH_LAYER_SENT] = "sent"};

	return words[phase];
}

static void show_progress(
	void *owner, const struct th_layer_progress *layers, size_t count)
{
	const struct owned *owned = owner;
	struct th_progress parts[PARTS_MAX];

	count = count > PARTS_MAX ? PARTS_MAX : count;
	for (size_t i = 0; i < count; i++)
		parts[i] = (struct th_progress){.digest = layers[i].blob,
			.phase = phase_word(layers[i].phase),
			.done_bytes = layers[i].done_bytes,
			.size_bytes = layers[i].size_bytes,
			.began_ms = layers[i].began_ms,
			.began_bytes = layers[i].began_bytes};
	owned->opening.progress(owned->opening.owner, parts, count);
}

void library_tell_pulled(th_hull *hull, const json_t *pulled)
{
	const struct owned *owned = owner_of(hull);

	if (owned->opening.pulled)
		owned->opening.pulled(owned->opening.owner, pulled);
}

static void tell_pulled(void *owner, const struct th_pulled *pulled)
{
	struct owned *owned = owner;
	json_t *doc = library_pulled(pulled);

	library_tell_pulled(&owned->hull, doc);
	json_decref(doc);
}

/* Who cannot be asked is told what there is. */
static int refuse_choice(const struct th_reference *ref,
	const struct th_strings *hosts, struct th_error *err)
{
	struct th_buf list;

	th_buf_init(&list, sizeof(err->hint) - 1);
	for (size_t i = 0; i < hosts->count; i++)
		th_buf_addf(&list, "%s%s/%s:%s",
			i ? ", " : "choose: ", hosts->items[i], ref->path,
			ref->tag);
	th_fail(err, TH_USAGE, "%zu registries have %s:%s", hosts->count,
		ref->path, ref->tag);
	th_hint(err, "%s", list.data);
	th_buf_release(&list);
	return -1;
}

int library_choose(void *owner, const struct th_reference *ref,
	const struct th_strings *hosts, size_t *choice, struct th_error *err)
{
	const struct owned *owned = owner;
	const struct th_opening *opening = &owned->opening;
	json_t *list;
	char name[TH_REFERENCE_MAX + 8];
	int rc;

	if (!opening->choose)
		return refuse_choice(ref, hosts, err);
	list = th_json_from_strings(hosts);
	snprintf(name, sizeof(name), "%s:%s", ref->path, ref->tag);
	rc = opening->choose(opening->owner, name, list, choice);
	json_decref(list);
	if (rc == 0 && *choice < hosts->count)
		return 0;
	return rc < 0 ? refuse_choice(ref, hosts, err)
		      : th_fail(err, TH_USAGE, "no choice was made");
}

/* ---- opening ---- */

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
	int purposes = opening->purposes;
	int rc = keep(owned, opening->root, &options->root) |
		keep(owned, opening->config, &options->config) |
		keep(owned, opening->layers_from, &options->layers_from) |
		keep(owned,
			opening->keeper ? opening->keeper
					: TH_LIBEXECDIR "/tidyhull-keeper",
			&options->keeper) |
		keep(owned,
			opening->pilot ? opening->pilot
				       : TH_LIBEXECDIR "/tidyhull-pilot",
			&options->pilot) |
		keep(owned, opening->actor ? opening->actor : "libtidyhull",
			&owned->actor);

	if (rc)
		return -1;
	options->env = opening->env;
	options->notice = opening->notice;
	options->owner = opening->owner;
	options->cancel = &owned->shared->cancelled;
	owned->work.done_bytes = &owned->shared->done_bytes;
	owned->work.tell = opening->working;
	owned->work.owner = opening->owner;
	options->work = &owned->work;
	options->logins = purposes & TH_TO_FETCH;
	options->look = !(purposes & (TH_TO_ACT | TH_TO_START));
	options->networks = purposes & TH_TO_START ? TH_NEEDS_NETWORKS
		: purposes & TH_TO_START_MADE	   ? TH_NEEDS_NETWORKS_OF_STORE
						   : TH_NEEDS_NO_NETWORKS;
	options->checks = purposes & (TH_TO_CHECK | TH_TO_REPAIR);
	options->repairs = purposes & TH_TO_REPAIR;
	return 0;
}

static int open_it(struct owned *owned, struct th_error *err)
{
	struct th_hull_options options = {0};
	struct th_context *context = &owned->hull.context;

	if (set_options(owned, &options))
		return th_fail_memory(err);
	if (th_hull_begin(&owned->hull, &options, err))
		return -1;
	context->choose = library_choose;
	context->owner = owned;
	if (!(owned->opening.purposes & TH_WITHOUT_STORE)) {
		if (th_hull_open_store(&owned->hull, owned->actor, err))
			return -1;
	} else if (owned->opening.purposes & TH_TO_FETCH &&
		th_hull_open_registries(&owned->hull, err)) {
		return -1;
	}
	if (owned->opening.pulled)
		context->pulled = tell_pulled;
	if (owned->opening.progress)
		context->progress = show_progress;
	return 0;
}

th_hull *th_hull_open(const struct th_opening *opening, th_error *error)
{
	struct owned *owned = calloc(1, sizeof(*owned));
	struct th_error own = {0}, *err = error ? error : &own;
	void *shared = mmap(NULL, sizeof(struct shared), PROT_READ | PROT_WRITE,
		MAP_SHARED | MAP_ANONYMOUS, -1, 0);

	if (!owned || shared == MAP_FAILED) {
		if (shared != MAP_FAILED)
			munmap(shared, sizeof(struct shared));
		free(owned);
		th_fail_memory(err);
		return NULL;
	}
	owned->shared = shared;
	if (opening)
		owned->opening = *opening;
	if (open_it(owned, err) == 0)
		return &owned->hull;
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
	munmap(owned->shared, sizeof(*owned->shared));
	free(owned);
}

void th_hull_cancel(th_hull *hull)
{
	atomic_store(&owner_of(hull)->shared->cancelled, true);
}

const char *th_hull_root(const th_hull *hull)
{
	return hull->root;
}

const char *th_hull_version(void)
{
	return TH_VERSION;
}

/* ---- about it ---- */

int th_hull_about(th_hull *hull, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	const struct th_caller *caller = &hull->caller;
	const struct th_store *store = hull->context.store;
	json_t *logins = json_array();

	library_begin(doc);
	for (size_t i = 0; i < hull->logins.count; i++)
		json_array_append_new(
			logins, json_string(hull->logins.list[i].host));
	return library_give(
		json_pack("{s:s s:s s:s s:s? s:s s:b s:s s:I s:I s:s s:I s:o "
			  "s:b s:b}",
			"root", hull->root, "run", hull->run, "run-time",
			hull->run_time, "config", hull->config_path,
			"leave-keys", hull->config.leave_keys, "unprivileged",
			caller->unprivileged, "user", caller->name, "uid",
			(json_int_t)caller->uid, "gid", (json_int_t)caller->gid,
			"home", caller->home, "registries",
			(json_int_t)hull->config.registry_count, "logins",
			logins, "service", hull->context.notify != NULL,
			"detached", store && th_db_is_detached(store->db)),
		doc, error ? error : &own);
}

int th_hull_host(th_hull *hull, json_t **doc, th_error *error)
{
	const struct th_caller *caller = &hull->caller;
	const struct th_ability_user user = {
		caller->unprivileged ? caller->name : NULL, caller->uid,
		caller->gid, th_hull_has_bus(hull), .store = hull->root};
	struct th_ability list[TH_ABILITIES_MAX];
	struct th_error own = {0};
	size_t count = th_ability_check(&user, list);
	json_t *checks = json_array();

	library_begin(doc);
	for (size_t i = 0; i < count; i++)
		json_array_append_new(checks,
			json_pack("{s:s s:b s:b s:s s:s s:o}", "what",
				list[i].what, "able",
				list[i].state != TH_ABILITY_MISSING, "less",
				list[i].state == TH_ABILITY_LESS, "here",
				list[i].here, "use", list[i].use, "advice",
				th_json_word(list[i].advice)));
	return library_give_list("checks", checks, doc, error ? error : &own);
}

int th_hull_erase(th_hull *hull, const char *folder, th_error *error)
{
	const struct th_caller *caller = &hull->caller;
	struct th_error own = {0};
	bool single = false;

	error = error ? error : &own;
	if (caller->unprivileged &&
		th_user_enter(
			caller->name, caller->uid, caller->gid, &single, error))
		return -1;
	return th_tree_remove(AT_FDCWD, folder, error);
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
