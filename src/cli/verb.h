/* What a verb is, and what it is given when it runs. */
#ifndef CLI_VERB_H
#define CLI_VERB_H

#include <jansson.h>
#include <stdbool.h>
#include <sys/stat.h>

#include "base/buffer.h"
#include "base/error.h"
#include "tidyhull/tidyhull.h"

/* One option of a verb: parser and help come from the same table. */
struct option_spec {
	const char *name; /* NULL ends the table */
	const char *value; /* what stands for its value, or NULL for none */
	const char *help;
};

enum verb_flags {
	VERB_STORE = 1, /* works on the store */
	/* Touches no file of an image or container: an unprivileged user needs
	 * no user namespace for it. */
	VERB_LOOK = 2,
	VERB_COMMAND = 4, /* takes a command behind -- */
	VERB_JSON = 8, /* has --json */
	/* Its exit code is that of a command: our own failures get 125. */
	VERB_PASSES_CODE = 16,
	VERB_REGISTRIES = 32, /* may ask registries */
	VERB_STARTS = 64, /* a container, which may need networks */
	VERB_STARTS_MADE = 128, /* those that are made already */
	VERB_GROUPS = 256, /* a group stands for its containers */
	VERB_CHECKS = 512, /* works on the store with --verify and --repair */
	VERB_BUNDLES = 1024, /* works on the store to make a bundle */
	VERB_ALONE = 2048, /* needs no hull: help */
	VERB_HIDDEN = 4096, /* for programs; not in the list of verbs */
	VERB_TABLE = 8192, /* prints a table of which columns are chosen */
	VERB_WATCH = 16384, /* can be looked at again and again */
	VERB_LINES = 32768 /* has --json-lines */
};

struct given_option {
	const char *name;
	const char *value;
};

struct progress;

struct invocation {
	th_hull *hull; /* its store is open where VERB_STORE is set */
	struct progress *progress; /* of what is transferred */
	const struct verb *verb;
	struct given_option *options;
	int option_count;
	char **objects;
	int object_count;
	char **command;
	int command_count;
	bool has_command; /* there was a -- */
	bool quiet, yes, json;
	bool json_lines; /* with json */
};

/* Of verbs that bring images. */
#define LAYERS_FROM                                                            \
	{                                                                      \
		"layers-from", "DIR",                                          \
			"use what an administrator has unpacked in DIR"        \
	}

struct verb {
	const char *name;
	const char *group;
	/* What it is called elsewhere, in Unix and in the trade at large; for
	 * hints, and nothing else. */
	const char *called;
	/* What its objects are, for completion (verb_complete.c): kinds of
	 * objects, states of containers, files. */
	const char *takes;
	const char *summary; /* one line for the list of verbs */
	const char *usage; /* what stands behind the verb */
	const char *const *text; /* lines that explain; ended by NULL */
	const char *const *examples; /* lines; ended by NULL */
	const struct option_spec *options;
	int flags;
	int least, most; /* how many objects; most -1: any number */
	int (*run)(struct invocation *call); /* gives the exit code */
};

/* The last value of an option, or NULL; and whether it was given at all. */
const char *option_value(const struct invocation *call, const char *name);
bool option_given(const struct invocation *call, const char *name);
/* Calls take for each value of an option, until one fails. */
int each_option(const struct invocation *call, const char *name,
	int (*take)(void *owner, const char *text, struct th_error *err),
	void *owner, struct th_error *err);
/* All values of an option as a list of texts; a new reference. */
json_t *option_list(const struct invocation *call, const char *name);
/* Files that are the caller's own are made with it; the rest is not. */
extern mode_t callers_umask;
/* True where the caller has had enough (Ctrl-C). */
bool interrupted(void);
/* All of standard input, up to the limit of buf: 1 or -1. Ends with TH_FAILED
 * when the caller has had enough. */
int read_input(struct th_buf *buf, struct th_error *err);
/* Appends all values of an option. */
int option_values(const struct invocation *call, const char *name,
	struct th_strings *list);

#endif
