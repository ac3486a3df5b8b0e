/* Images: from registries, files, recipes and containers; and back. */
#ifndef TIDYHULL_IMAGE_H
#define TIDYHULL_IMAGE_H

#include <tidyhull/object.h>

#ifdef __cplusplus
extern "C" {
#endif

/* True where text is the path of a packed file or folder rather than a
 * reference. */
bool th_image_is_path(const char *text);
/* Pulls a reference, with its registry's host or found in the searched ones;
 * platform "os/arch[/variant]", NULL: this host's. What is here already is not
 * fetched again, and a pull that was interrupted goes on. doc gets {"name",
 * "digest", "from", "layers", "already-here", "transferred", "notes"}. */
int th_image_fetch(th_hull *hull, const char *reference, const char *platform,
	json_t **doc, th_error *error);
/* Sends it to a reference with a host, NULL: its own name; layers in pieces of
 * chunk_bytes (0: whole, UINT64_MAX: the usual). doc as "push --json". */
int th_image_send(th_hull *hull, const char *name, const char *reference,
	uint64_t chunk_bytes, json_t **doc, th_error *error);
/* The images of a packed file or an OCI image layout: all, or the one of the
 * name only. {"pulled": [...]}, each as of fetch, and told one by one to the
 * opening's pulled. */
int th_image_unpack(th_hull *hull, const char *path, const char *only,
	const char *platform, json_t **doc, th_error *error);
/* Packs images (a list of names) into one file ("-": standard output);
 * TH_IN_USE where it is there, unless replace says so. settings (of one image,
 * or NULL) make it a file that can be executed. {"file", "images", "size"}. */
int th_image_pack(th_hull *hull, const json_t *names, const char *path,
	bool replace, const json_t *settings, json_t **doc, th_error *error);
/* The settings in a file that can be executed; null where there are none. */
int th_image_packed_settings(const char *path, json_t **doc, th_error *error);
/* A further name for it: {"name", "digest", "before" (the digest that the name
 * stood for, or null)}. */
int th_image_name(th_hull *hull, const char *name, const char *new_name,
	json_t **doc, th_error *error);

/* Finds the image of settings for a container here, or pulls it: {"name",
 * "digest"}. */
int th_image_bring(
	th_hull *hull, const json_t *settings, json_t **doc, th_error *error);
/* The path of its shell: {"path"}. TH_NO_PROGRAM where it has none. */
int th_image_shell(
	th_hull *hull, const char *name, json_t **doc, th_error *error);
/* What is different in the second one; as "changes --json". */
int th_image_changes(th_hull *hull, const char *before, const char *after,
	json_t **doc, th_error *error);
/* What no container can see of it; as "changes --json". */
int th_image_hidden(
	th_hull *hull, const char *name, json_t **doc, th_error *error);

/* An image from what a container has changed. wish: {"name", "compress"
 * ("gzip", "zstd,level=6", "none"), "time" (seconds since 1970, or null: now),
 * "env", "label" and "port" (lists), "user", "workdir", "stop", "entrypoint",
 * "command"}, all but the first where wanted. doc as "capture --json", with
 * "sockets". */
int th_image_capture(th_hull *hull, const char *container, const json_t *wish,
	json_t **doc, th_error *error);

/* ---- recipes ---- */

/* What of a build is asked for: {"recipe" (its path, for messages), "text",
 * "given": ["NAME=VALUE"...], "folders": [[name, path]...] (the first one, "",
 * is the recipe's own), "secrets": ["NAME=VALUE"...], "name", "anew", "plan",
 * "keep-place" (of a step that fails), "compress", "time", "fetch"}. */

/* {"images": [{"key", "name", "steps"}...], "notes": [...]}; or problems. */
int th_recipe_look(const json_t *wish, json_t **doc, th_error *error);

enum th_build_happening {
	TH_BUILD_IMAGE_BEGINS,
	TH_BUILD_STEP_RUNS,
	TH_BUILD_OUTPUT, /* of the step that runs */
	TH_BUILD_STEP_DONE,
	TH_BUILD_STEP_REMEMBERED,
	TH_BUILD_STEP_PLANNED, /* it would run: reason */
	TH_BUILD_IMAGE_DONE,
	TH_BUILD_NOTE
};
/* What a remembered step lacks. */
enum th_step_reason {
	TH_STEP_NEW, /* nothing is remembered */
	TH_STEP_CONTENT, /* with other files */
	TH_STEP_PARENT, /* on another image */
	TH_STEP_BOTH
};
struct th_build_event {
	enum th_build_happening what;
	size_t image, step; /* their numbers; step from 0 */
	const char *text; /* of the step, the output, the note */
	size_t len; /* of output */
	int64_t took_us;
	uint64_t bytes; /* of the new layer, as it is stored; 0: none */
	enum th_step_reason reason;
	bool behind; /* the step before it would run */
	const char *digest; /* of an image that is done */
};
/* Builds all its images; tell is called by one thread at a time. {"name" (or
 * null), "digest"} of the main one; of a failure problems, or {"image", "step",
 * "last-words", "place"}. */
int th_recipe_build(th_hull *hull, const json_t *wish,
	void (*tell)(void *owner, const struct th_build_event *event),
	void *owner, json_t **doc, th_error *error);
/* A container that goes when it ends, with a shell where the step of such a
 * failure ran. doc gets the container. */
int th_recipe_enter(th_hull *hull, const json_t *wish, const json_t *failure,
	bool terminal, json_t **doc, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
