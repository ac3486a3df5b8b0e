/* Containers: making, running and removing them. */
#ifndef TIDYHULL_CONTAINER_H
#define TIDYHULL_CONTAINER_H

#include <tidyhull/object.h>

#ifdef __cplusplus
extern "C" {
#endif

/* ---- settings ---- */

/* Settings are an object with the options of "create" by their names: texts,
 * lists of texts where an option can be repeated, true for one without a value.
 * "command" is a list. Beside them: "fetch", "base" (where relative paths
 * start; "/"), "digest" (exactly this image), "keep" (false: it goes when it
 * ends), "hidden" (the keys of variables whose values "show" hides), and for
 * th_container_plan "replaces" (the ID of the one whose place it would take).
 *
 * All that is wrong with them is found in one look: then the call fails, and
 * its document is {"problems": [{"code", "message", "hint"}...]}. */

/* The settings that there are: [{"name", "kind": "text", "list" or "flag",
 * "joins": "one", "places", "all", "list" or "apart"}...]: how what is given
 * goes together with what was set before. */
int th_settings(json_t **doc, th_error *error);
/* Whether a setting can have this value, by itself: 0, or -1 and what is wrong
 * with it. Nothing is looked for, as images and folders are. */
int th_setting_check(const char *name, const char *value, th_error *error);
/* A settings file, whose text lies at path, with values given from outside (a
 * list of "NAME=VALUE"): {"group" (or null), "networks": [...], "volumes":
 * [...], "containers": [{"member", "name", "image", "build", "settings":
 * [[name, value or null]...], "command" (or null), "after", "line",
 * "column"}...]}; or problems. */
int th_settings_load(
	const char *path, const json_t *given, json_t **doc, th_error *error);
/* Whether a container could be made of them now; nothing is changed or
 * fetched. {"mounts": [{"target", "source"}...]} as they would be; or
 * problems. */
int th_container_plan(
	th_hull *hull, const json_t *settings, json_t **doc, th_error *error);

/* ---- the life of one ---- */

/* Makes one. The image is pulled where it is missing ("fetch" says otherwise).
 * doc gets the container, with "notes" (a list of texts); or problems. */
int th_container_make(
	th_hull *hull, const json_t *settings, json_t **doc, th_error *error);
/* In the background; the error has a code of its own where the program is
 * missing or cannot be executed. doc gets the container as it is then. */
int th_container_begin(
	th_hull *hull, const char *name, json_t **doc, th_error *error);
/* Its stop signal, and after grace_ms (-1: its own) the hard kill; returns when
 * it has ended. doc gets how: {"kind", "code", "by-force", "sessions"}. */
int th_container_end(th_hull *hull, const char *name, int grace_ms,
	json_t **doc, th_error *error);
/* A signal to a container or a session: "TERM", "SIGTERM" or a number. doc gets
 * {"name" or "id" of whose it was, "signal" (its name, or null), "number"}. */
int th_container_kill(th_hull *hull, const char *name, const char *signal,
	json_t **doc, th_error *error);
/* Returns when it runs again. */
int th_container_again(
	th_hull *hull, const char *name, int grace_ms, th_error *error);
int th_container_freeze(th_hull *hull, const char *name, th_error *error);
int th_container_thaw(th_hull *hull, const char *name, th_error *error);
/* Waits until a container, or a session, has ended for good, or until the
 * probe of a container succeeds; for ever with timeout_ms -1. 1 where the time
 * is over, which is no error. doc gets {"exit-code"} of one that has ended, as
 * a shell would have it. */
int th_container_await(th_hull *hull, const char *name, bool ready,
	int timeout_ms, json_t **doc, th_error *error);
int th_container_name(
	th_hull *hull, const char *name, const char *new_name, th_error *error);
/* Other limits, "restart" or "probe" ("": none) while it runs: an object with
 * these, as for "adjust". doc gets {"limit"}: all its limits from now on, where
 * they were changed. */
int th_container_change(th_hull *hull, const char *name, const json_t *changes,
	json_t **doc, th_error *error);
/* Makes it anew of these settings: another one takes its name, volumes, ports
 * and place, or all is as before. doc gets the new one as for make; of a
 * failure problems, or {"last-words", "went-back"}. */
struct th_replacement {
	bool start; /* whether or not the one before it runs */
	bool by_hand; /* of a group: the next launch sees that it is changed */
	int ready_ms; /* in which it has to be ready */
	int grace_ms; /* of the stop; -1: the container's own */
};
int th_container_remake(th_hull *hull, const char *name, const json_t *settings,
	const struct th_replacement *how, json_t **doc, th_error *error);

/* ---- several ---- */

/* The containers of these names (a list), and those of the groups among them:
 * {"containers": [...], "ordered": whether some of them wait for others}, in
 * the order in which they would be started. */
int th_containers_order(
	th_hull *hull, const json_t *names, json_t **doc, th_error *error);

struct th_end_watch {
	/* One is still waited for, with so many others; about every 200 ms. */
	void (*waits)(void *owner, const json_t *container, size_t others);
	/* container as it was before; ending as of th_container_end, or NULL
	 * where it did not run or the error says why not. */
	void (*ended)(void *owner, const json_t *container,
		const json_t *ending, const th_error *error);
	void *owner;
};
/* Ends them all at the same time; of groups those first that others do not wait
 * for. stays_due: they are due to be started again. Fails with the first error,
 * when all has been tried. */
int th_containers_end(th_hull *hull, const json_t *names, int grace_ms,
	bool stays_due, const struct th_end_watch *watch, th_error *error);

/* ---- what is to be seen of it ---- */

/* Why it is in the state that it is in, as "why --json" has it. */
int th_container_reason(
	th_hull *hull, const char *name, json_t **doc, th_error *error);
/* {"events": [...], "last": n}: its history, or that of all (name NULL), behind
 * the event of the number after (0: from the beginning); oldest first. A
 * container that is gone has one, too. To follow it, ask again with what "last"
 * says. */
int th_container_events(th_hull *hull, const char *name, int64_t after,
	json_t **doc, th_error *error);
/* What these (a list of names), or all that run (NULL), use just now:
 * {"containers": [...]} as "meter --json" has them, with "time-us"; ask twice
 * and compare "cpu-us" for "cpu-percent", which is null. */
int th_container_usage(
	th_hull *hull, const json_t *names, json_t **doc, th_error *error);
/* {"processes": [...]}, as "processes --json", with "name" and "id". */
int th_container_inside(
	th_hull *hull, const char *name, json_t **doc, th_error *error);
/* What it has written into its root, as "changes --json". */
int th_container_changes(
	th_hull *hull, const char *name, json_t **doc, th_error *error);
/* The path of a shell in a running one: {"path"}. TH_NO_PROGRAM where it has
 * none. */
int th_container_shell(
	th_hull *hull, const char *name, json_t **doc, th_error *error);

/* ---- its log ---- */

typedef struct th_lines th_lines; /* opaque */

struct th_lines_wish {
	int64_t since_us, until_us; /* since 1970; 0: no bound */
	long last; /* only so many at the end; -1: all */
	bool out, err; /* of which stream; both or none: of both */
	bool follow; /* until it has ended for good */
};

/* An entry; "more": its line goes on in the next one. The text is not ended by
 * a NUL, and valid until the next call. */
struct th_line {
	int64_t time_us;
	bool is_error, more;
	const char *text;
	size_t bytes;
};

/* Of a container or a background session, oldest first; what the program has
 * written by now is in it. */
int th_lines_open(th_hull *hull, const char *name,
	const struct th_lines_wish *wish, th_lines **lines, th_error *error);
/* 1, 0 where there is none by now, -1. */
int th_lines_next(th_lines *lines, struct th_line *line, th_error *error);
/* True where there will never be more. */
bool th_lines_over(th_lines *lines);
/* True where its beginning is no longer kept. */
bool th_lines_cut(const th_lines *lines);
/* Waits a moment for more. */
void th_lines_wait(th_lines *lines);
void th_lines_close(th_lines *lines);

/* ---- files ---- */

/* From one place to another: a path of this host (NULL: the descriptor, with a
 * tar archive), "CONTAINER:/path" or "volume:NAME/path"; owner: "keep",
 * "UID:GID" as seen inside, or NULL for the user of the container or the
 * caller. {"files", "bytes", "skipped", "attributes-lost"}. */
int th_files_copy(th_hull *hull, const char *from, const char *to,
	int descriptor, const char *owner, json_t **doc, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
