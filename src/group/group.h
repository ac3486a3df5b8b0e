/* Containers that belong together: brought up in their order, changed where
 * what describes them has changed, and left alone where it has not. */
#ifndef TH_GROUP_GROUP_H
#define TH_GROUP_GROUP_H

#include "container/replace.h"
#include "group/settings_file.h"
#include "store/group_state.h"

/* What is to be done with a container of a group. */
enum th_group_act {
	TH_GROUP_LEAVE, /* it is as described, and runs */
	TH_GROUP_START, /* it is as described */
	TH_GROUP_MAKE, /* there is none */
	TH_GROUP_REMAKE, /* it was described differently */
	TH_GROUP_REMOVE /* nothing describes it any more */
};
const char *th_group_act_word(enum th_group_act act);

enum th_group_step {
	TH_GROUP_WAITS,
	TH_GROUP_WORKS,
	TH_GROUP_DONE,
	TH_GROUP_FAILED,
	TH_GROUP_LEFT_OUT
};

struct th_group_after {
	size_t item; /* its place in the list */
	enum th_after_what what;
};

struct th_group_item {
	/* The caller's; what is only started or removed has none. */
	struct th_settings *settings;
	struct th_member member;
	struct th_group_after *after; /* owned */
	size_t after_count;
	/* By th_group_compare, or th_group_load. */
	enum th_group_act act;
	char why[160]; /* for people: what has changed */
	int rank; /* 0 for one that waits for none, and so on */
	bool was_up;
	struct th_container_row before; /* where there is one */
	/* By th_group_do. */
	enum th_group_step step;
	struct th_container_row row;
	bool ready; /* its probe has said so */
	struct th_error err;
	char words[TH_LAST_WORDS]; /* of one that failed */
	bool went_back; /* and the one before it has its place again */
	struct th_way *way; /* while it may have to be undone */
};

struct th_group {
	char name[TH_NAME_MAX];
	struct th_group_item *items;
	size_t count;
};

void th_group_release(struct th_group *group);

/* ---- group.c ---- */

/* The containers of the group; *rows is to be freed. TH_NOT_FOUND where there
 * is none of the name. */
int th_group_rows(const struct th_context *context, const char *name,
	struct th_container_row **rows, size_t *count, struct th_error *err);
/* Containers as they are, each to be started where it does not run, in the
 * order in which their groups start them; they may be of several groups, or of
 * none.
 */
int th_group_of(const struct th_context *context,
	const struct th_container_row *rows, size_t count,
	struct th_group *group, struct th_error *err);
/* When its last container has gone: removes the network that came with it. */
int th_group_tidy(const struct th_context *context, const char *name,
	struct th_error *err);
/* Sets the ranks, and after from the text of the members. */
int th_group_link(struct th_group *group, struct th_error *err);

/* Text of the digests of all settings, by which it is seen whether one has
 * changed; read before they are checked. */
void th_group_digest(
	const struct th_settings *settings, char text[TH_SETTINGS_DIGEST]);

/* Holds the group, so that one command at a time changes it: 1, 0 where another
 * one does, -1. Given up by th_group_let_go, or with the process. */
int th_group_hold(const struct th_context *context, const char *name, int *lock,
	struct th_error *err);
void th_group_let_go(
	const struct th_context *context, const char *name, int *lock);

/* ---- compare.c ---- */

/* Finds out what is to be done with each item that has settings; containers of
 * the group that none of them describes are added. Names that others have
 * become problems. */
int th_group_compare(const struct th_context *context, struct th_group *group,
	struct th_problems *problems, struct th_error *err);
/* Looks at everything that those need which are made: all problems at once,
 * each with the container's name. */
void th_group_check(const struct th_context *context, struct th_group *group,
	struct th_problems *problems);

/* ---- bring_up.c ---- */

struct th_group_options {
	int ready_ms; /* how long a probe may take */
	int grace_ms; /* of stops; -1: their own */
	bool undo; /* where one fails, all is as it was before */
	/* Told of each step; from several threads, one at a time. May be NULL.
	 */
	void (*tell)(void *owner, const struct th_group *group,
		const struct th_group_item *item);
	void *owner;
};

/* Does it: first those that go are stopped, then each other as soon as those it
 * waits for are as far as it wants them, and at the end those that go are
 * removed. 0, or -1 where one failed: its item says why. *undone where all is
 * as before. */
int th_group_do(const struct th_context *context, struct th_group *group,
	const struct th_group_options *options, bool *undone);

#endif
