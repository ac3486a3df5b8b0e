/* What pull and unpack have in common. */
#ifndef CLI_PULLING_H
#define CLI_PULLING_H

#include "cli/verb.h"

struct pulling {
	struct invocation *call;
	json_t *list; /* of what has come; owned */
	int64_t began_us; /* of the one that comes now */
};

/* Calls act for each object; answers as --json where that is wanted. Gives the
 * exit code. */
int pull_all(struct invocation *call,
	int (*act)(struct pulling *pulling, const char *object));
/* Says that one has come, and adds it to the list. */
void pull_tell(struct pulling *pulling, const json_t *pulled);

/* Takes the images of a packed file in: all, or only the one of that name. */
int unpack_file(struct pulling *pulling, const char *path, const char *only);

#endif
