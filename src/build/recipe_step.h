/* Reading the steps of a recipe. For the build module only. */
#ifndef TH_BUILD_RECIPE_STEP_H
#define TH_BUILD_RECIPE_STEP_H

#include "build/recipe_yaml.h"

/* A list of steps; joined: those inside a join. */
void read_steps(struct reading *reading, yaml_node_t *node, bool joined,
	struct th_recipe_step **steps, size_t *count);
void steps_release(struct th_recipe_step *steps, size_t count);

#endif
