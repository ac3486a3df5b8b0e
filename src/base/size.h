/* Sizes as people write them. */
#ifndef TH_BASE_SIZE_H
#define TH_BASE_SIZE_H

#include <stdint.h>

/* "64M", "1.5G", "4096": bytes; -1 where it is no size. */
int th_size_parse(const char *text, uint64_t *bytes);

/* As such a text again, with the largest unit that divides it. */
#define TH_SIZE_EXACT 24
void th_size_exact(uint64_t bytes, char text[TH_SIZE_EXACT]);

#endif
