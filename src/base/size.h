/* Sizes as people write them. */
#ifndef TH_BASE_SIZE_H
#define TH_BASE_SIZE_H

#include <stdbool.h>
#include <stdint.h>

/* "64M", "1.5G", "4096": bytes; -1 where it is no size. */
int th_size_parse(const char *text, uint64_t *bytes);

/* The same without a "B" or "iB" at its end: "64MB" is "64M" where it is a size
 * then; in a text of 24 bytes. */
bool th_size_meant(const char *text, char meant[24]);

/* As such a text again, with the largest unit that divides it. */
#define TH_SIZE_EXACT 24
void th_size_exact(uint64_t bytes, char text[TH_SIZE_EXACT]);

#endif
