/* Bringing a group up: each container has a thread that waits for those before
 * it and then does what is to be done, with a store of its own. */
#include <errno.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "base/threads.h"
#include "group/group.h"

#define STACK_BYTES (512 * 1024)
/* A wait for a probe is looked at so often, so that Ctrl-C ends it. */
#define LOOK_MS 200

struct bringing {
	const struct th_context *context;
	struct th_group *group;
	const struct th_group_options *options;
	pthread_mutex_t mutex;
	pthread_cond_t changed;
	bool failed; /* one has */
};

struct worker {
	struct bringing *bringing;
	struct th_group_item *item;
	struct th_context context;
	pthread_t thread;
	bool started;
};

/* With the mutex held. */
static void set_step(struct bringing *bringing, struct th_group_item *item,
	enum th_group_step step)
{
	item->step = step;
	if (step == TH_GROUP_FAILED)
		bringing->failed = true;
	if (bringing->options->tell)
		bringing->options->tell(
			bringing->options->owner, bringing->group, item);
	pthread_cond_broadcast(&bringing->changed);
}

/* ---- waiting ---- */

static int fail_after(struct th_group_item *item,
	const struct th_group_item *other, const char *what)
{
	return th_fail(&item->err, TH_FAILED, "it waits for \"%s\", which %s",
		other->row.name[0] ? other->row.name : other->member.member,
		what);
}

/* Until it is ready, has ended, or is given up on. */
static int await_probe(struct worker *worker, const char *id, int limit_ms,
	struct th_error *err)
{
	for (int ms = 0; ms < limit_ms; ms += LOOK_MS) {
		struct th_ending ending;
		struct th_error late = {0};
		int rc = th_container_wait(&worker->context, id, "ready", NULL,
			LOOK_MS, &ending, &late);

		if (rc == 2)
			return 0;
		if (rc >= 0)
			return th_fail(err, TH_FAILED, "ended");
		if (th_context_cancelled(&worker->context))
			return th_fail(err, TH_FAILED,
				"is not ready yet: "
				"interrupted");
	}
	return th_fail(err, TH_FAILED, "was not ready within %d seconds",
		limit_ms / 1000);
}

static int await_end(struct worker *worker, const struct th_group_item *other)
{
	struct th_container_row now;
	struct th_error err = {0};

	for (;;) {
		struct th_ending ending;
		int rc = th_container_wait(&worker->context, other->row.id,
			"end", NULL, LOOK_MS, &ending, &err);

		if (rc >= 0)
			break;
		th_error_clear(&err);
		if (th_context_cancelled(&worker->context))
			return fail_after(worker->item, other, "still runs");
	}
	if (th_state_get(
		    worker->context.store->db, other->row.id, &now, &err) != 1)
		return fail_after(worker->item, other, "is gone");
	if (now.outcome == TH_OUTCOME_EXITED && now.code == 0)
		return 0;
	return fail_after(worker->item, other, "did not end well");
}

/* Until the other one runs, as far as this command is concerned. */
static int await_step(struct worker *worker, const struct th_group_item *other)
{
	struct bringing *bringing = worker->bringing;
	enum th_group_step step;

	pthread_mutex_lock(&bringing->mutex);
	while (other->step == TH_GROUP_WAITS || other->step == TH_GROUP_WORKS)
		pthread_cond_wait(&bringing->changed, &bringing->mutex);
	step = other->step;
	pthread_mutex_unlock(&bringing->mutex);
	return step == TH_GROUP_DONE ? 0 : -1;
}

/* 0, -1 with the item's error, 1 where another failure leaves it out. */
static int await_others(struct worker *worker)
{
	struct th_group_item *items = worker->bringing->group->items;
	struct th_group_item *item = worker->item;

	for (size_t i = 0; i < item->after_count; i++) {
		const struct th_group_item *other = &items[item->after[i].item];
		enum th_after_what what = item->after[i].what;
		struct th_error err = {0};

		if (await_step(worker, other))
			return 1;
		if (what == TH_AFTER_READY &&
			await_probe(worker, other->row.id,
				worker->bringing->options->ready_ms, &err))
			return fail_after(item, other, err.msg);
		if (what == TH_AFTER_ENDED && await_end(worker, other))
			return -1;
	}
	return 0;
}

/* ---- doing ---- */

static void say_problems(
	struct th_group_item *item, const struct th_problems *problems)
{
	if (!problems->count)
		return;
	th_error_clear(&item->err);
	item->err = problems->list[0];
}

static int make(struct worker *worker)
{
	struct th_group_item *item = worker->item;
	struct th_problems problems = {0};
	struct th_error ignored = {0}; /* swept later */
	int rc;

	rc = th_container_create(&worker->context, item->settings, &problems,
		&item->row, &item->err);
	say_problems(item, &problems);
	th_problems_release(&problems);
	if (rc)
		return -1;
	if (th_container_start(&worker->context, &item->row, &item->err) == 0)
		return 0;
	/* Half a launch is none. */
	th_container_remove(&worker->context, &item->row, true, &ignored);
	return -1;
}

static int remake(struct worker *worker)
{
	struct th_group_item *item = worker->item;
	struct th_replacing replacing = {.settings = item->settings,
		.start = true,
		.until_ready = true,
		.ready_ms = worker->bringing->options->ready_ms,
		.grace_ms = worker->bringing->options->grace_ms};
	struct th_problems problems = {0};
	int rc;

	rc = th_replacement_begin_way(&worker->context, &item->before,
		&replacing, &problems, &item->row, &item->way, &item->err);
	say_problems(item, &problems);
	th_problems_release(&problems);
	snprintf(item->words, sizeof(item->words), "%s", replacing.words);
	if (rc)
		item->row = item->before;
	item->went_back = rc && replacing.went_back;
	return rc;
}

/* A keeper that a killed command has left may be at it already. */
static bool is_started_by_another(struct worker *worker)
{
	const struct timespec step = {.tv_nsec = 10000000};
	struct th_group_item *item = worker->item;
	struct th_error ignored = {0}; /* then it is not */

	for (int tries = 0; item->err.code == TH_IN_USE && tries < 300;
		tries++) {
		if (th_state_get(worker->context.store->db, item->before.id,
			    &item->row, &ignored) == 1 &&
			item->row.state == TH_STATE_RUNNING)
			return true;
		nanosleep(&step, NULL);
	}
	return false;
}

static int start(struct worker *worker)
{
	struct th_group_item *item = worker->item;

	if (item->before.state == TH_STATE_WAITING)
		return th_container_start_waiting(
			&worker->context, &item->before, &item->err);
	if (th_container_start(&worker->context, &item->before, &item->err) ==
		0)
		return 0;
	if (!is_started_by_another(worker))
		return -1;
	th_error_clear(&item->err);
	return 0;
}

static int act(struct worker *worker)
{
	struct th_group_item *item = worker->item;

	switch (item->act) {
	case TH_GROUP_MAKE:
		return make(worker);
	case TH_GROUP_REMAKE:
		return remake(worker);
	case TH_GROUP_START:
		return start(worker);
	case TH_GROUP_LEAVE:
	case TH_GROUP_REMOVE:
		break;
	}
	return 0;
}

/* The group is up when those with a probe are ready. */
static int await_ready(struct worker *worker)
{
	struct th_group_item *item = worker->item;
	struct th_error err = {0};

	if (!item->row.probe[0])
		return 0;
	if (await_probe(worker, item->row.id,
		    worker->bringing->options->ready_ms, &err) == 0) {
		item->ready = true;
		return 0;
	}
	return th_fail(&item->err, TH_FAILED, "it %s", err.msg);
}

static void work(struct worker *worker)
{
	struct bringing *bringing = worker->bringing;
	struct th_group_item *item = worker->item;
	int rc = await_others(worker);
	bool left_out;

	pthread_mutex_lock(&bringing->mutex);
	left_out = rc == 1 ||
		(rc == 0 && item->act != TH_GROUP_LEAVE &&
			((bringing->failed && bringing->options->undo) ||
				th_context_cancelled(&worker->context)));
	set_step(bringing, item,
		left_out	 ? TH_GROUP_LEFT_OUT
			: rc < 0 ? TH_GROUP_FAILED
				 : TH_GROUP_WORKS);
	pthread_mutex_unlock(&bringing->mutex);
	if (rc || left_out)
		return;
	rc = act(worker);
	pthread_mutex_lock(&bringing->mutex);
	set_step(bringing, item, rc ? TH_GROUP_FAILED : TH_GROUP_DONE);
	pthread_mutex_unlock(&bringing->mutex);
	/* Others may go on; this one is looked at until it is ready. */
	if (rc == 0 && item->row.probe[0]) {
		rc = await_ready(worker);
		pthread_mutex_lock(&bringing->mutex);
		set_step(bringing, item, rc ? TH_GROUP_FAILED : TH_GROUP_DONE);
		pthread_mutex_unlock(&bringing->mutex);
	}
}

/* With a store of its own: nothing of it is shared between threads. */
static void *work_in_thread(void *owner)
{
	struct worker *worker = owner;
	const struct th_store *shared = worker->bringing->context->store;
	struct th_store *store = NULL;

	/* Unpacking sets the umask, which threads share otherwise. */
	if (unshare(CLONE_FS))
		th_fail_sys(&worker->item->err, TH_NOT_POSSIBLE, errno,
			"a thread cannot have its own umask here");
	else if (th_store_open(shared->root, shared->run, false, &store,
			 &worker->item->err) == 0) {
		store->unprivileged = shared->unprivileged;
		worker->context.store = store;
		work(worker);
		th_store_close(store);
	}
	if (!store) {
		pthread_mutex_lock(&worker->bringing->mutex);
		set_step(worker->bringing, worker->item, TH_GROUP_FAILED);
		pthread_mutex_unlock(&worker->bringing->mutex);
	}
	return NULL;
}

static void work_all(struct bringing *bringing)
{
	struct th_group *group = bringing->group;
	struct worker *workers = calloc(group->count + 1, sizeof(*workers));

	for (size_t i = 0; i < group->count; i++) {
		struct th_group_item *item = &group->items[i];
		struct worker *worker = workers ? &workers[i] : NULL;

		if (item->act == TH_GROUP_REMOVE)
			continue;
		if (worker) {
			worker->bringing = bringing;
			worker->item = item;
			worker->context = *bringing->context;
			worker->started =
				th_thread_start(&worker->thread, STACK_BYTES,
					work_in_thread, worker) == 0;
		}
		if (worker && worker->started)
			continue;
		pthread_mutex_lock(&bringing->mutex);
		th_fail_memory(&item->err);
		set_step(bringing, item, TH_GROUP_FAILED);
		pthread_mutex_unlock(&bringing->mutex);
	}
	for (size_t i = 0; workers && i < group->count; i++) {
		if (workers[i].started)
			pthread_join(workers[i].thread, NULL);
	}
	free(workers);
}

/* ---- those that go ---- */

static void stop_going(struct bringing *bringing)
{
	for (size_t i = 0; i < bringing->group->count; i++) {
		struct th_group_item *item = &bringing->group->items[i];
		struct th_ending ending;
		struct th_error ignored = {0}; /* removal says more */

		if (item->act == TH_GROUP_REMOVE && item->was_up)
			th_container_stop(bringing->context, &item->before, 0,
				bringing->options->grace_ms, &ending, &ignored);
	}
}

static void remove_going(struct bringing *bringing)
{
	for (size_t i = 0; i < bringing->group->count; i++) {
		struct th_group_item *item = &bringing->group->items[i];
		struct th_container_row now;

		if (item->act != TH_GROUP_REMOVE)
			continue;
		if (th_state_get(bringing->context->store->db, item->before.id,
			    &now, &item->err) != 1 ||
			th_container_remove(
				bringing->context, &now, true, &item->err))
			set_step(bringing, item, TH_GROUP_FAILED);
		else
			set_step(bringing, item, TH_GROUP_DONE);
	}
}

/* ---- there and back ---- */

static void undo_one(struct bringing *bringing, struct th_group_item *item)
{
	const struct th_context *context = bringing->context;
	struct th_container_row now;
	struct th_ending ending;
	struct th_error ignored = {0}; /* the first one counts */
	bool there = item->row.id[0] &&
		th_state_get(
			context->store->db, item->row.id, &now, &ignored) == 1;

	switch (item->act) {
	case TH_GROUP_MAKE:
		if (there)
			th_container_remove(context, &now, true, &ignored);
		break;
	case TH_GROUP_REMAKE:
		if (item->way)
			th_replacement_revert(context, item->way, &ignored);
		item->way = NULL;
		break;
	case TH_GROUP_START:
		if (there && !item->was_up)
			th_container_stop(context, &now, 0,
				bringing->options->grace_ms, &ending, &ignored);
		break;
	case TH_GROUP_REMOVE:
		if (item->was_up &&
			th_state_get(context->store->db, item->before.id, &now,
				&ignored) == 1)
			th_container_start(context, &now, &ignored);
		break;
	case TH_GROUP_LEAVE:
		break;
	}
}

/* The last ones first: whoever came after others goes before them. */
static void undo_all(struct bringing *bringing)
{
	struct th_group *group = bringing->group;

	for (int rank = (int)group->count; rank >= 0; rank--) {
		for (size_t i = 0; i < group->count; i++) {
			if (group->items[i].rank == rank)
				undo_one(bringing, &group->items[i]);
		}
	}
}

static void commit_all(struct bringing *bringing)
{
	struct th_group *group = bringing->group;

	for (size_t i = 0; i < group->count; i++) {
		if (group->items[i].way)
			th_replacement_commit(
				bringing->context, group->items[i].way);
		group->items[i].way = NULL;
	}
	remove_going(bringing);
}

int th_group_do(const struct th_context *context, struct th_group *group,
	const struct th_group_options *options, bool *undone)
{
	struct bringing bringing = {
		.context = context, .group = group, .options = options};

	*undone = false;
	pthread_mutex_init(&bringing.mutex, NULL);
	pthread_cond_init(&bringing.changed, NULL);
	stop_going(&bringing);
	work_all(&bringing);
	*undone = bringing.failed && options->undo;
	if (*undone)
		undo_all(&bringing);
	else
		commit_all(&bringing);
	pthread_cond_destroy(&bringing.changed);
	pthread_mutex_destroy(&bringing.mutex);
	return bringing.failed ? -1 : 0;
}
