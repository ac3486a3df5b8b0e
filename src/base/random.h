/* Random identifiers. */
#ifndef TH_BASE_RANDOM_H
#define TH_BASE_RANDOM_H

#include <stddef.h>
#include <stdint.h>

/* Length of a container's ID, without the NUL. */
#define TH_ID_LENGTH 12

/* A new container ID: twelve letters and digits, the first of them a letter
 * beyond f, so that no beginning of it can be taken for a digest's. */
void th_id_new(char id[TH_ID_LENGTH + 1]);
/* A number from 0 to below; below must not be 0. */
uint32_t th_random_below(uint32_t below);

#endif
