/* Taking a part out of a document before it is parsed. */
#ifndef TH_BASE_JSON_CUT_H
#define TH_BASE_JSON_CUT_H

#include <stddef.h>

/* Replaces the value of the member inner, in the object that is the member
 * outer of the text's object, by null. The new length; len where there is none.
 * What is not well-formed stays so for the parser that comes behind, but in
 * what is taken out, which nobody looks at. */
size_t th_json_cut(
	char *text, size_t len, const char *outer, const char *inner);

#endif
