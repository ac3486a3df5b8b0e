/* The objects of a store: lists, one of them whole, and away with it. */
#ifndef TIDYHULL_OBJECT_H
#define TIDYHULL_OBJECT_H

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Kinds of objects, as a set. */
enum th_kind {
	TH_KIND_CONTAINER = 1,
	TH_KIND_IMAGE = 2,
	TH_KIND_SESSION = 4,
	TH_KIND_VOLUME = 8,
	TH_KIND_NETWORK = 16,
	TH_KIND_GROUP = 32
};

/* All of one kind, as "list --json" has them: {"containers": [...],
 * "not-shown": n} and so on. all: containers that do not run, and sessions that
 * have ended, too. Groups: {"groups": [...]}, each with its containers in their
 * order. */
int th_list(th_hull *hull, enum th_kind kind, bool all, json_t **doc,
	th_error *error);

/* All containers one after the other, as th_list has them, without a document
 * of all: take gets each, which is gone when it returns. not_shown gets how
 * many there are beside them. */
int th_containers_each(th_hull *hull, bool all,
	void (*take)(void *owner, const json_t *container), void *owner,
	size_t *not_shown, th_error *error);

/* How much of an object is told. */
enum th_detail {
	TH_BRIEF, /* as in a list */
	TH_FULL, /* as "show --json" has it */
	TH_REVEALED, /* with the values of secret settings */
	/* And what it takes to make another container of the settings:
	 * "hidden": {"keys": [of secret variables], "files": ["NAME=VALUE"]}.
	 */
	TH_FOR_ANOTHER
};

/* The one object of the kinds (a set) that the name means; an image found by
 * one of its names has that in full as "found-as". TH_USAGE with all that fit
 * where several do. */
int th_object(th_hull *hull, const char *name, int kinds, enum th_detail detail,
	json_t **doc, th_error *error);

/* Takes the object away. What is in use is TH_IN_USE and stays; a container
 * that runs is stopped first with force. Of an image its name goes, and it
 * itself with the last one; of a group, whose containers have to have gone,
 * what was left of it. doc says what it was: {"kind", "name", "id" or
 * "digest", "gone" (of an image: all of it)}, also where a group still has
 * containers. */
int th_remove(th_hull *hull, const char *name, int kinds, bool force,
	json_t **doc, th_error *error);

/* The ID of the container that had the name last and is gone by now, where
 * there was one: {"id"}. TH_NOT_FOUND otherwise. */
int th_past(th_hull *hull, const char *name, json_t **doc, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
