/* Files that are packed images and can be executed. */
#ifndef CLI_RUNNABLE_H
#define CLI_RUNNABLE_H

#include "cli/verb.h"

/* Settings of a container that such a file can keep, as options of pack. */
#define RUNNABLE_OPTIONS                                                       \
	{"share", "LIST",                                                      \
		"home,cwd,user,env,scratch,shm,ipc,pmix: the caller's"},       \
		{"mount", "MOUNT", "as for run; so are the others"},           \
		{"env", "ENV", "KEY=VALUE; KEY; KEY=@ask"},                    \
		{"network", "NAME", "the network; host or none"},              \
		{"user", "USER", "the program's user"},                        \
		{"workdir", "DIR", "the folder the program starts in"},        \
		{"entrypoint", "PROGRAM", "replaces the image's"},             \
		{"limit", "LIMIT", "memory=256M,cpu=1.5"},                     \
		{"device", "DEVICE", "a device, or its name"},                 \
	{                                                                      \
		"read-only", NULL, "mount the root read-only"                  \
	}

/* The settings given to pack, to be let go; NULL where the file is not to be
 * runnable. count: the images that are packed. */
int runnable_settings(struct invocation *call, size_t count, json_t **settings,
	struct th_error *err);

/* The words of the call of run that the file stands for, with these arguments
 * of the program. */
int runnable_words(const char *path, int count, char **arguments,
	struct th_strings *words, struct th_error *err);

#endif
