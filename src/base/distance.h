/* The edit distance of two words, to find what was meant by a mistyped one. */
#ifndef TH_BASE_DISTANCE_H
#define TH_BASE_DISTANCE_H

/* How many letters must be changed, added, left out, or change places with
 * their neighbours, to make b of a; 99 for words of more than 60 letters. */
int th_distance(const char *a, const char *b);

#endif
