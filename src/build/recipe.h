/* Recipes: how an image is made (docs/recipes.md). */
#ifndef TH_BUILD_RECIPE_H
#define TH_BUILD_RECIPE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "base/yaml_bounds.h"
#include "build/image_settings.h"

/* At most so many images, and steps of one image. */
#define TH_RECIPE_IMAGES 64
#define TH_RECIPE_STEPS 1000

enum th_step_kind { TH_STEP_PUT, TH_STEP_DO, TH_STEP_TAKE, TH_STEP_JOIN };

/* What comes from outside, or from another image, to a path inside. */
struct th_recipe_pair {
	char *inside;
	char *outside;
	bool into; /* inside is a folder that it comes into, by its own name */
	struct th_yaml_place place;
};

struct th_recipe_step {
	enum th_step_kind kind;
	struct th_yaml_place place;
	/* of put and take */
	struct th_recipe_pair *pairs;
	size_t pair_count;
	char *owner; /* NULL: root for what is put, kept for what is taken */
	char *mode; /* octal, or NULL */
	struct th_strings leave_out; /* patterns */
	bool unpack;
	/* of do */
	struct th_strings command;
	bool shell; /* command is one text for the image's shell */
	struct th_strings env, networks, mounts, secrets, limits;
	char *user, *workdir;
	/* of join */
	struct th_recipe_step *steps;
	size_t step_count;
};

struct th_recipe_image {
	char *key; /* by which others of the recipe know it; "" for the main */
	char *name; /* of the image that comes to be, or NULL */
	char *from; /* a reference, a path, a key, or "nothing" */
	struct th_yaml_place place, from_place;
	struct th_recipe_step *steps;
	size_t step_count;
	struct th_image_settings settings;
	struct th_strings annotations; /* KEY=VALUE */
	/* What it needs first, as numbers in the recipe's list. */
	size_t *needs;
	size_t need_count;
};

struct th_recipe {
	/* Each behind those that it needs; the main one is the last. */
	struct th_recipe_image *images;
	size_t image_count;
	int64_t time_s; /* -1 where it gives none */
	struct th_strings notes; /* what looks like a mistake; owned */
};

/* Reads the text of the file called name; given are KEY=VALUE that were set
 * from outside. Whatever is wrong becomes a problem with its line and column;
 * then there is no recipe (-1). To be released in any case. */
int th_recipe_read(const char *name, const struct th_buf *text,
	const struct th_strings *given, struct th_recipe *recipe,
	struct th_problems *problems);
void th_recipe_release(struct th_recipe *recipe);

/* The number of the recipe's image that text means by its key, or -1. */
int th_recipe_find(const struct th_recipe *recipe, const char *text);

/* The image and the path of what is taken: "workshop:/out/pilot". false where
 * text is none. */
bool th_recipe_split(const char *text, size_t *image_len);

/* One line that says what the step does. */
void th_step_text(const struct th_recipe_step *step, char *text, size_t size);

#endif
