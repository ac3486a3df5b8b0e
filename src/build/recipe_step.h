/* Reading the steps and the settings of a recipe. For the build module only. */
#ifndef TH_BUILD_RECIPE_STEP_H
#define TH_BUILD_RECIPE_STEP_H

#include "base/yaml_values.h"
#include "build/recipe.h"

/* A list of steps; joined: those inside a join. */
void read_steps(struct th_yaml *reading, yaml_node_t *node, bool joined,
	struct th_recipe_step **steps, size_t *count);
/* What an image does when it is run. */
void read_image_settings(struct th_yaml *reading, yaml_node_t *node,
	struct th_image_settings *settings);
void steps_release(struct th_recipe_step *steps, size_t count);

#endif
