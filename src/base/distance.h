/* The edit distance of two words, to find what was meant by a mistyped one. */
#ifndef TH_BASE_DISTANCE_H
#define TH_BASE_DISTANCE_H

/* How many letters must be changed, added, left out, or change places with
 * their neighbours, to make b of a; 99 for words of more than 60 letters. */
int th_distance(const char *a, const char *b);
/* The one of words (ended by NULL) that is meant by a mistyped one; NULL. It is
 * longer than two letters, and nearer the longer it is; whoever mistypes a word
 * begins it well, or swaps or drops its first letter. */
const char *th_nearest(const char *word, const char *const *words);
/* Whether the one word may be the other, mistyped: how far at most. */
int th_distance_allowed(const char *word, const char *meant);

#endif
