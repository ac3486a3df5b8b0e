/* Words for kinds of objects. No name needs one before it, and none is a verb;
 * who writes one all the same is told the line without it. */
#ifndef CLI_KINDS_H
#define CLI_KINDS_H

#include "cli/verb.h"

/* The kind that the first len bytes of word say, in the singular; NULL. */
const char *kind_word(const char *word, size_t len);
/* True where objects of the verb can be of this kind. */
bool kind_is_taken(const struct verb *verb, const char *kind);
/* "stop container web": where the first of several objects says a kind that
 * the verb takes, err names the line without it (-1); otherwise 0. */
int kind_refuse(const struct invocation *call, struct th_error *err);
/* As kind_refuse, but not for what bears that word as its name. */
int kind_refuse_unknown(const struct invocation *call, struct th_error *err);

#endif
