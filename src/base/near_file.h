/* The file that was meant by a mistyped path. */
#ifndef TH_BASE_NEAR_FILE_H
#define TH_BASE_NEAR_FILE_H

#include <stdbool.h>

#define TH_NEAR_FILE 300

/* Of the files in the folder of path, the one whose name is nearest to its own,
 * or the same with another ending; as a path that begins like it. false where
 * there is none. */
bool th_near_file(const char *path, char found[TH_NEAR_FILE]);

#endif
