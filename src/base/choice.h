/* One of a few words. */
#ifndef TH_BASE_CHOICE_H
#define TH_BASE_CHOICE_H

#include <stddef.h>

/* The number of the word in the list; -1 where it is none of them, or NULL. */
int th_choice(const char *word, const char *const *words, size_t count);

#endif
