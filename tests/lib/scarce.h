/* Memory that runs out on demand: the unit tests are linked so that allocations
 * of our own code, and of the JSON library, go through here. */
#ifndef TESTS_SCARCE_H
#define TESTS_SCARCE_H

#include <stdbool.h>

/* The allocation of that number fails from now on, and all after it; the first
 * one is number 0. */
void scarce_begin(long number);
/* Ends it; true where an allocation was refused. */
bool scarce_end(void);

#endif
