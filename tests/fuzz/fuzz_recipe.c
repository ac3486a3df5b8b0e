/* Recipes: what people write, and values that are given from outside. */
#include <stdlib.h>
#include <string.h>

#include "build/recipe.h"
#include "fuzz/fuzz.h"
#include "layer/deflate.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = fuzz_text(data, size), line[64];
	struct th_problems problems = {0};
	enum th_compression compression;
	struct th_strings given = {0};
	struct th_recipe recipe;
	struct th_buf body;
	int level;

	th_buf_init(&body, size + 1);
	th_buf_add(&body, data, size);
	th_strings_add(&given, "EDITION=4");
	if (th_recipe_read("recipe", &body, &given, &recipe, &problems) == 0) {
		for (size_t i = 0; i < recipe.image_count; i++) {
			const struct th_recipe_image *image = &recipe.images[i];

			for (size_t k = 0; k < image->step_count; k++)
				th_step_text(
					&image->steps[k], line, sizeof(line));
			/* Needed ones stand before. */
			for (size_t k = 0; k < image->need_count; k++) {
				if (image->needs[k] >= i)
					abort();
			}
		}
	} else if (!problems.count) {
		abort(); /* a failure without a word */
	}
	th_compression_parse(text, &compression, &level, NULL);
	th_recipe_release(&recipe);
	th_problems_release(&problems);
	th_strings_release(&given);
	th_buf_release(&body);
	free(text);
	return 0;
}
